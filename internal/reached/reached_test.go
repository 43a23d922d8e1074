package reached

import (
	"errors"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"
)

// TestWhy asks where nobody listens, where nobody answers and where there is no such name.
func TestWhy(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	silent := l.Addr().String()
	defer l.Close()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_ = free.Close()
	c := &http.Client{Timeout: time.Second}
	for at, want := range map[string]string{
		"http://" + free.Addr().String():         "it is not reached: nobody listens there",
		"http://" + silent:                       "it does not answer within 1 seconds",
		"http://nobody.invalid":                  "it is not reached: ",
		"http://127.0.0.1:1\x00not an address%%": "it is not reached: ",
	} {
		_, err := c.Get(at)
		if got := Why(err, time.Second); !strings.HasPrefix(got, want) || strings.Contains(got, "Get ") {
			t.Errorf("%s: %s", at, got)
		}
	}
	if got := Why(&net.DNSError{Name: "nobody.example", IsNotFound: true},
		0); got != "it is not reached: the name nobody.example is not known here" {
		t.Error(got)
	}
	if got := Why(errors.New("cut"), 0); got != "it is not reached: cut" {
		t.Error(got)
	}
}
