package open_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/connector/open"
	"wexillum.example/internal/core/native"
)

// TestHostile: a system that is slow, or answers too much, or nonsense, or in another's name, is told as such, in bounded time
// and memory; nothing of it is taken.
func TestHostile(t *testing.T) {
	t.Parallel()
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, `{"settings": {"a": "led elsewhere"}}`)
	}))
	defer elsewhere.Close()
	write := func(text string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) }
	}
	endless := func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, `{"records": [], "next": "%sx"}`, r.URL.Query().Get("after"))
	}
	read := func(ctx context.Context, c *open.Connector) error { _, err := c.Read(ctx); return err }
	list := func(ctx context.Context, c *open.Connector) error {
		return c.List(ctx, "rooms", func(native.Kept) error { return nil })
	}
	describe := func(ctx context.Context, c *open.Connector) error { _, err := c.Describe(ctx); return err }
	for _, x := range []struct {
		name   string
		serves http.HandlerFunc
		secure bool
		do     func(context.Context, *open.Connector) error
		want   string
	}{
		{"slow", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }, false, read, "deadline exceeded"},
		{"in drops", func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				fmt.Fprint(w, " ")
				w.(http.Flusher).Flush()
			}
		}, false, read, "deadline exceeded"},
		{"huge", write(`{"settings": {"a": "` + strings.Repeat("x", 9<<20) + `"}}`), false, read, "more than 8 MB"},
		{"a certificate of nobody's", write(`{"settings": {}}`), true, read, "certificate"},
		{"led elsewhere", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, elsewhere.URL, http.StatusFound) }, false, read,
			"sends elsewhere"},
		{"no JSON", write("<html>"), false, read, "invalid character"},
		{"no settings", write("{}"), false, read, "no list of settings"},
		{"pages that go back", write(`{"records": [{"id": "a", "fields": {}}], "next": ""}` + "x"), false, list, "invalid character"},
		{"pages with nothing in them, for ever", endless, false, list, "no page of rooms"},
		{"a description of another contract", write(`{"contract": 7, "name": "x", "title": "X"}`), false, describe, "version 7"},
		{"a description of no rules",
			write(`{"contract": 1, "name": "x", "title": "X", "settings": [{"path": "a", "title": "A", "rule": "no.rule"}]}`), false, describe,
			`no rule "no.rule"`},
		{"of a service that is none", write(`{"contract": 1, "name": "x", "title": "X", "services": ["smoke"]}`), false, describe,
			`no service "smoke"`},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			srv := httptest.NewUnstartedServer(x.serves)
			if x.secure {
				srv.StartTLS()
			} else {
				srv.Start()
			}
			t.Cleanup(func() { srv.CloseClientConnections(); srv.Close() })
			c, err := open.New(srv.URL, "token")
			if err != nil {
				t.Fatal(err)
			}
			within := 5 * time.Second
			if x.want == "deadline exceeded" {
				within = 200 * time.Millisecond
			}
			ctx, stop := context.WithTimeout(t.Context(), within)
			defer stop()
			if err := x.do(ctx, c); err == nil || !strings.Contains(err.Error(), x.want) {
				t.Errorf("%v, want %q", err, x.want)
			}
		})
	}
}

// TestSetsAreRead: a set of values holds lists and is read as it is; a list is read in order.
func TestSetsAreRead(t *testing.T) {
	t.Parallel()
	const set = "from=only: b.example, a.example; to=only: d.example, c.example"
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `{"settings": {"from": "only: b.example, a.example", "charter:@uma@ours.example": %q}}`, set)
	}))
	defer srv.Close()
	c, err := open.New(srv.URL, "token")
	if err != nil {
		t.Fatal(err)
	}
	got, err := c.Read(t.Context())
	if err != nil || got["from"] != "only: a.example, b.example" || got["charter:@uma@ours.example"] != set {
		t.Errorf("%v %v", got, err)
	}
}
