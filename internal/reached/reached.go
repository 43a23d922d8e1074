// Package reached says in plain words why somebody else's server was not reached.
package reached

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"syscall"
	"time"
)

// Why says why a request came to nothing. within is how long an answer was waited for.
func Why(err error, within time.Duration) string {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	var n net.Error
	var d *net.DNSError
	switch {
	case errors.As(err, &d) && d.IsNotFound:
		return "it is not reached: the name " + d.Name + " is not known here"
	case errors.As(err, &n) && n.Timeout():
		return fmt.Sprintf("it does not answer within %d seconds", int(within.Seconds()))
	case errors.Is(err, syscall.ECONNREFUSED):
		return "it is not reached: nobody listens there"
	}
	return "it is not reached: " + err.Error()
}
