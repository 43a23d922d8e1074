package logs

import (
	"bytes"
	"encoding/json"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"
)

// TestLines has the request in every line, and nobody's address in any.
func TestLines(t *testing.T) {
	var out bytes.Buffer
	h := New(slog.NewJSONHandler(&out, nil), []byte("key"))
	log := slog.New(h)
	line := func() map[string]any {
		t.Helper()
		m := map[string]any{}
		if err := json.Unmarshal(out.Bytes(), &m); err != nil {
			t.Fatal(err, out.String())
		}
		out.Reset()
		return m
	}
	ctx := Of(t.Context(), "r1")
	log.WarnContext(ctx, "mail to Maren@ilvane.example failed", "path", "/api/v1/guests/maren%40ilvane.example", "error",
		errors.New("maren@ilvane.example: no"), slog.Group("of", "who", "guest:maren@ilvane.example"), "n", 3)
	p := h.Pseudonym("maren@ilvane.example")
	if !strings.HasPrefix(p, "p-") || !strings.HasSuffix(p, "@ilvane.example") || strings.Contains(p, "maren") {
		t.Fatal(p)
	}
	m := line()
	for key, want := range map[string]any{"id": "r1", "msg": "mail to " + p + " failed", "path": "/api/v1/guests/" + p, "error": p + ": no",
		"n": 3.0} {
		if m[key] != want {
			t.Errorf("%s: %v, not %v", key, m[key], want)
		}
	}
	if of := m["of"].(map[string]any); of["who"] != "guest:"+p {
		t.Error(of)
	}
	log.InfoContext(ctx, "request", "id", "own")
	if m := line(); m["id"] != "own" {
		t.Error(m)
	}
	log.With("who", "a@b.example").WithGroup("g").Info("x", "y", "no address @ all")
	if m := line(); strings.Contains(m["who"].(string), "a@") || m["g"].(map[string]any)["y"] != "no address @ all" || m["id"] != nil {
		t.Error(m)
	}
	if New(nil, []byte("other")).Pseudonym("maren@ilvane.example") == p {
		t.Error("another key makes the same pseudonym")
	}
}

// TestSample writes the first of a second, and one for each so many of the others.
func TestSample(t *testing.T) {
	s := &Sample{First: 3, Every: 10}
	at := time.Unix(1000, 0)
	lines, stand := 0, 0
	for range 103 {
		if n, yes := s.Take(at); yes {
			lines, stand = lines+1, stand+n
		}
	}
	if lines != 13 || stand != 103 {
		t.Errorf("%d lines for %d", lines, stand)
	}
	if n, yes := s.Take(at.Add(time.Second)); n != 1 || !yes {
		t.Error("the next second begins anew")
	}
}
