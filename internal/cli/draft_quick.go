package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	"golang.org/x/term"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/operations"
)

const draftHeader = "Wexillum-Draft"

// quickly sends changes of policy. In a draft they become its edits; elsewhere each is
// a draft of one change, whose impact is shown before it is published.
type quickly struct {
	*app
	server, token string
	next          http.RoundTripper
}

// changesPolicy reports whether a request is made a draft of one change where it is in none.
func changesPolicy(r *http.Request) bool {
	op, where := operations.Match(r.Method, r.URL)
	return op != nil && !op.WeighsSelf && op.InDraft(where, r.URL.Query().Get("preview") == "true") == operations.Policy
}

// notInDraft is returned before a request is sent that no draft can hold.
type notInDraft struct{}

func (notInDraft) Error() string {
	return "this changes at once, and a draft holds policy alone: leave out --draft"
}

func (q *quickly) RoundTrip(r *http.Request) (*http.Response, error) {
	if own, err := url.Parse(q.server); err != nil || r.URL.Scheme != own.Scheme ||
		r.URL.Host != own.Host { // led on: the token is for its own server alone
		return nil, fmt.Errorf(
			"the service at %s leads on to %s://%s; name that address with --server if it is right",
			q.server,
			r.URL.Scheme,
			r.URL.Host,
		)
	}
	if q.token != "" {
		r.Header.Set("Authorization", "Bearer "+q.token)
	}
	if q.found != "" {
		r.Header.Set("Wexillum-Found", q.found)
	}
	if q.draft != "" && r.Method != http.MethodGet {
		if op, where := operations.Match(r.Method, r.URL); op != nil && !op.Open() &&
			op.InDraft(where, r.URL.Query().Get("preview") == "true") == operations.Never {
			return nil, notInDraft{}
		}
	}
	if q.draft != "" && !strings.HasPrefix(r.URL.Path, "/api/v1/drafts") {
		r.Header.Set(draftHeader, q.draft)
	}
	if q.found != "" {
		resp, err := q.next.RoundTrip(r)
		if err == nil {
			q.foundAt(resp)
		}
		return resp, err
	}
	if q.draft != "" || !changesPolicy(r) {
		return q.next.RoundTrip(r)
	}
	ctx := r.Context()
	var d contract.Draft
	if resp, err := q.send(ctx, "POST", "/api/v1/drafts", map[string]bool{"quick": true}, &d); err != nil || resp != nil {
		return resp, err
	}
	drop := func() {
		resp, err := q.send(
			context.WithoutCancel(ctx),
			"POST",
			"/api/v1/drafts/"+d.Id+"/drop",
			map[string]string{"why": "not published"},
			nil,
		)
		if resp != nil {
			_ = resp.Body.Close()
		}
		_ = err // what is left is an open draft, which can be dropped by hand
	}
	why := ""
	if r.GetBody != nil {
		if body, err := r.GetBody(); err == nil {
			var x struct {
				Why string `json:"why"`
			}
			_ = json.NewDecoder(body).Decode(&x)
			why = x.Why
		}
	}
	if t := r.URL.Query().Get("why"); t != "" {
		why = t
	}
	inside := r.Clone(ctx)
	inside.Header.Set(draftHeader, d.Id)
	answer, err := q.next.RoundTrip(inside)
	if err != nil || answer.StatusCode >= 400 {
		drop()
		return answer, err
	}
	body, err := io.ReadAll(answer.Body)
	_ = answer.Body.Close()
	if err != nil {
		drop()
		return nil, err
	}
	answer.Body = io.NopCloser(bytes.NewReader(body))
	if resp, err := q.send(ctx, "GET", "/api/v1/drafts/"+d.Id, nil, &d); err != nil || resp != nil {
		return resp, err
	}
	if len(d.Edits) == 0 {
		drop()
		return answer, nil
	}
	imp, resp, err := q.weigh(ctx, d.Id)
	if err != nil || resp != nil {
		drop()
		return resp, err
	}
	q.brief(q.err, imp)
	if !q.confirmed("Publish this?") {
		drop()
		return nil, errors.New("nothing was changed")
	}
	if why == "" {
		why = d.Name
	}
	publishing := map[string]string{"why": why, "digest": imp.Digest}
	if q.despite != "" {
		publishing["despite"] = q.despite
	}
	if resp, err := q.send(ctx, "POST", "/api/v1/drafts/"+d.Id+"/publish", publishing, &d); err != nil ||
		resp != nil {
		if resp != nil && resp.StatusCode == http.StatusForbidden {
			if kept, err := q.send(ctx, "POST", "/api/v1/drafts/"+d.Id+"/keep", map[string]string{"why": why}, &d); err != nil ||
				kept != nil {
				return kept, err
			}
			fmt.Fprintf(q.err, "The draft %s (%s) is there for an administrator: wexillum draft publish %s --why …\n", d.Id, d.Name, d.Id)
		}
		return resp, err
	}
	q.published(q.err, &d)
	return answer, nil
}

// published says what became of a wish to publish.
func (a *app) published(w io.Writer, d *contract.Draft) {
	switch d.State {
	case contract.DraftStatePublished:
		fmt.Fprintf(w, "Published as revision %d.\n", pickInt(d.Published))
	case contract.DraftStateWaiting:
		fmt.Fprintf(w, "Not in force yet: somebody else must confirm it, with wexillum draft confirm %s\n", d.Id)
	case contract.DraftStateSet:
		fmt.Fprintf(w, "It will be published at %s.\n", seconds(pick(d.Weighed.PublishAt)))
	}
}

func pickInt(n *int64) int64 {
	if n == nil {
		return 0
	}
	return *n
}

// confirmed asks on a terminal; elsewhere, and with --yes, the answer is yes.
func (a *app) confirmed(question string) bool {
	f, ok := a.in.(*os.File)
	if a.yes || !ok || !term.IsTerminal(int(f.Fd())) {
		return true
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	line, _ := bufio.NewReader(a.in).ReadString('\n')
	line = strings.ToLower(strings.TrimSpace(line))
	return line == "y" || line == "yes"
}

// send makes a request of its own; an answer that is a problem is handed back.
func (q *quickly) send(ctx context.Context, method, path string, body, into any) (*http.Response, error) {
	var in io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		in = bytes.NewReader(text)
	}
	r, err := http.NewRequestWithContext(ctx, method, q.server+path, in)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+q.token)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	resp, err := q.next.RoundTrip(r)
	if err != nil || resp.StatusCode >= 400 {
		return resp, err
	}
	defer resp.Body.Close()
	if into == nil {
		return nil, nil
	}
	return nil, json.NewDecoder(resp.Body).Decode(into)
}

// weigh finds the impact of a draft and shows how far it is on a terminal.
func (q *quickly) weigh(ctx context.Context, id string) (*contract.Impact, *http.Response, error) {
	var imp contract.Impact
	resp, err := q.send(ctx, "GET", "/api/v1/drafts/"+id+"/impact", nil, &imp)
	return &imp, resp, err
}

// foundAt says, once, of which reading an answer is.
func (q *quickly) foundAt(resp *http.Response) {
	read := resp.Header.Get("Wexillum-Found-Read")
	if read == "" || q.foundTold || q.output != "table" {
		return
	}
	q.foundTold = true
	fmt.Fprintf(q.err, "What the systems hold, read %s", clock(read))
	if not := resp.Header.Get("Wexillum-Found-Not-Looked-At"); not != "" {
		fmt.Fprintf(q.err, "; not looked at: %s", not)
	}
	fmt.Fprintln(q.err)
}
