// Package freeport finds ports for servers that have to be told theirs before they listen.
package freeport

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
)

// handed out, so that none is twice before its server listens.
var handed = struct {
	sync.Mutex
	out map[int]bool
}{out: map[int]bool{}}

// Find finds a port of loopback that nobody listens at. It is below those that systems give to connections that go out (from
// 32768, as RFC 6056 lets them), since one of those may be taken at any moment.
func Find() (int, error) {
	handed.Lock()
	defer handed.Unlock()
	for range 1000 {
		n := 20000 + rand.IntN(12000)
		if handed.out[n] {
			continue
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", n))
		if err != nil {
			continue
		}
		handed.out[n] = true
		return n, l.Close()
	}
	return 0, errors.New("there is no free port between 20000 and 32000")
}
