package beside

import (
	"context"
	"io"
	"net/http"
	"strings"
	"time"
)

// DAV speaks to a server of WebDAV (RFC 4918) or CalDAV (RFC 4791) as one of its clients does.
type DAV struct {
	Server string // as http://127.0.0.1:8080
}

var davClient = http.Client{Timeout: 10 * time.Second}

// Said is what a server answered.
type Said struct {
	Status int
	Text   string // as 403 Forbidden
	Body   string // the first 64 kB
}

// Ask makes a request as somebody; kind is the type of the body. Depth is said to be 0.
func (d DAV) Ask(ctx context.Context, method, path, who, password, kind, body string) (out Said, err error) {
	r, err := http.NewRequestWithContext(ctx, method, d.Server+path, strings.NewReader(body))
	if err != nil {
		return out, err
	}
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	r.Header.Set("Depth", "0")
	if who != "" {
		r.SetBasicAuth(who, password)
	}
	resp, err := davClient.Do(r)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	return Said{resp.StatusCode, resp.Status, string(b)}, err
}

// Event is a calendar with one event of an hour in it, tomorrow (RFC 5545).
func Event() string {
	from := time.Now().UTC().Add(24 * time.Hour).Truncate(time.Hour)
	at := func(t time.Time) string { return t.Format("20060102T150405Z") }
	return strings.Join([]string{
		"BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//wexillum//trial//EN", "BEGIN:VEVENT", "UID:trial", "DTSTAMP:" + at(time.Now().UTC()),
		"DTSTART:" + at(from), "DTEND:" + at(from.Add(time.Hour)), "SUMMARY:a trial", "END:VEVENT", "END:VCALENDAR", "",
	}, "\r\n")
}
