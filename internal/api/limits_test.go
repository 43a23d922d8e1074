package api

import (
	"fmt"
	"net/http"
	"testing"
	"time"
)

// TestPlaces counts an IPv6 subscriber as one place.
func TestPlaces(t *testing.T) {
	for from, want := range map[string]string{"203.0.113.7:5000": "203.0.113.7", "[2001:db8:1:2:3:4:5:6]:443": "2001:db8:1:2::/64",
		"[2001:db8:1:2::9]:443": "2001:db8:1:2::/64", "[::ffff:203.0.113.7]:1": "203.0.113.7", "[fe80::1%eth0]:80": "fe80::/64", "@": "@"} {
		if got := remote(&http.Request{RemoteAddr: from}); got != want {
			t.Errorf("%s is %s, want %s", from, got, want)
		}
	}
}

// TestForgetsTheOldest fills a limit with strangers: who tried last is still known.
func TestForgetsTheOldest(t *testing.T) {
	x := newTries(1, time.Hour)
	now := time.Now()
	x.allow("first", now)
	for i := range remembered - 1 {
		x.allow(fmt.Sprint(i), now)
	}
	if x.allow("first", now) {
		t.Error("it was forgotten before there were too many")
	}
	for i := range remembered - 1 { // the first is used between, and stays
		x.allow(fmt.Sprint("more", i), now)
		if i%1000 == 0 && x.allow("first", now) {
			t.Fatal("who tries is forgotten")
		}
	}
	if !x.allow("0", now) {
		t.Error("who tried longest ago is still known")
	}
}
