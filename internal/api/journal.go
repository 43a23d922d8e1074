package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/event"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

func (s *server) Journal(ctx context.Context, r apigen.JournalRequestObject) (apigen.JournalResponseObject, error) {
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q := store.JournalQuery{
		Kind:  opt(r.Params.Kind),
		ID:    opt(r.Params.Id),
		Who:   opt(r.Params.Who),
		Limit: pageSize(r.Params.Limit, 100) + 1,
	}
	if q.Kind != "" && !slices.Contains(event.Kinds, q.Kind) {
		return nil, &service.Invalid{Field: "kind", Value: q.Kind,
			Reason: "there is no such kind of entry; there are " + strings.Join(event.Kinds, ", ")}
	}
	if t := opt(r.Params.About); t != "" {
		a, err := addr.Parse(t)
		if err != nil {
			return nil, &service.Invalid{Field: "about", Value: t, Reason: err.Error()}
		}
		q.About = a.String()
	}
	if after != "" {
		if q.Before, err = strconv.ParseUint(after, 10, 64); err != nil {
			return nil, &service.Invalid{Field: "cursor", Value: opt(r.Params.Cursor), Reason: "send what the page before gave as next"}
		}
	}
	es, err := s.Service.Journal(ctx, q)
	out := apigen.Journal200JSONResponse{Entries: []contract.JournalEntry{}, Kinds: event.Kinds}
	for i, e := range es {
		if i == q.Limit-1 {
			out.Next = cursor(strconv.FormatUint(es[i-1].Seq, 10))
			break
		}
		x := contract.JournalEntry{
			Seq:      int64(e.Seq),
			PartOf:   int64(e.PartOf),
			At:       e.At,
			Who:      e.Who,
			Kind:     e.Kind,
			Id:       e.ID,
			Why:      e.Why,
			Revision: int64(e.Revision),
		}
		if e.Was != nil {
			x.Was = ptr(string(e.Was))
		}
		if e.Now != nil {
			x.Now = ptr(string(e.Now))
		}
		out.Entries = append(out.Entries, x)
	}
	return out, err
}

func (s *server) VerifyJournal(ctx context.Context, r apigen.VerifyJournalRequestObject) (apigen.VerifyJournalResponseObject, error) {
	n, broken, err := s.Service.VerifyJournal(ctx)
	out := apigen.VerifyJournal200JSONResponse{Whole: broken == nil, Entries: int64(n)}
	if err == nil && r.Params.Seal != nil {
		holds, err := s.Service.SealHolds(ctx, uint64(max(0, orZero(r.Params.Seq))), *r.Params.Seal)
		if err != nil {
			return nil, err
		}
		out.Kept = &holds
	}
	if broken != nil {
		out.BrokenAt, out.Reason = ptr(int64(broken.Seq)), &broken.Reason
	}
	return out, err
}

// stream writes events until the listener leaves: the head of the journal whenever it moves, or what
// happened of some topics, each with the number of its journal entry as id, so that who was away can go
// on behind it (HTML, "Server-sent events").
type stream struct {
	ctx    context.Context
	s      *server
	topics []contract.EventTopic
	after  uint64                      // what was heard of already; 0 for nothing
	still  func(context.Context) error // an error once who listens may no longer
}

func (x stream) VisitChangesResponse(w http.ResponseWriter) error {
	c := http.NewResponseController(w)
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	heads, stop := x.s.Service.Watch()
	defer stop()
	head := x.s.Service.State().Head
	if x.after == 0 || x.after > head.Seq {
		x.after = head.Seq
	}
	send := x.head(w)
	if len(x.topics) > 0 {
		send = x.events(w)
		// So that whoever leaves before anything happened knows where they were.
		if _, err := fmt.Fprintf(w, "id: %d\n: from here\n\n", x.after); err != nil {
			return nil
		}
	}
	if send(head) != nil || c.Flush() != nil {
		return nil
	}
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		var err error
		select {
		case <-x.ctx.Done():
			return nil
		case <-x.s.Closing:
			return nil
		case h := <-heads:
			if err = x.still(x.ctx); err == nil { // a session may have been ended by this change
				err = send(h)
			}
		case <-beat.C:
			if err = x.still(x.ctx); err == nil { // a token may have come to its end, which nothing tells of
				_, err = io.WriteString(w, ": still here\n\n")
			}
		}
		if err == nil {
			err = c.Flush()
		}
		if err != nil {
			return nil
		}
	}
}

// head writes where the journal has come to.
func (x stream) head(w io.Writer) func(store.Head) error {
	return func(h store.Head) error {
		_, err := fmt.Fprintf(w, "event: change\nid: %d\ndata: {\"seq\":%d,\"revision\":%d}\n\n", h.Seq, h.Seq, h.Revision)
		return err
	}
}

// events writes what happened since it wrote last.
func (x stream) events(w io.Writer) func(store.Head) error {
	after := x.after
	return func(h store.Head) error {
		for after < h.Seq {
			list, upTo, err := x.s.Service.EventsAfter(x.ctx, after)
			if err != nil || upTo == after {
				return err
			}
			for i := range list {
				e := &list[i]
				if !slices.Contains(x.topics, contract.EventTopic(e.Topic)) {
					continue
				}
				data, err := json.Marshal(e)
				if err == nil {
					_, err = fmt.Fprintf(w, "event: %s\nid: %d\ndata: %s\n\n", e.Topic, e.ID, data)
				}
				if err != nil {
					return err
				}
			}
			after = upTo
		}
		return nil
	}
}

func (s *server) Changes(ctx context.Context, p apigen.ChangesRequestObject) (apigen.ChangesResponseObject, error) {
	r := requestOf(ctx)
	began := whoIs(ctx).Role
	x := stream{ctx: ctx, s: s, still: func(ctx context.Context) error {
		who, _, err := s.authenticate(ctx, r)
		if errors.Is(err, service.ErrDenied) {
			return err
		}
		if err == nil && who.Role != began { // what they may hear of is another thing now: they ask anew
			return errForbidden
		}
		return nil // the database is away; what is known is told
	}}
	if p.Params.Topic != nil {
		x.topics = *p.Params.Topic
		if err := whoIs(ctx).SeesChanges(); err != nil {
			return nil, err
		}
	}
	if last := opt(p.Params.LastEventID); last != "" {
		n, err := strconv.ParseUint(last, 10, 64)
		if err != nil {
			return nil, &service.Invalid{Field: "Last-Event-ID", Value: last, Reason: "send the id of the last event that was heard"}
		}
		x.after = n
	}
	return x, nil
}
