package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/remedy"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Asked is a question as it is kept with a request.
type Asked struct {
	Subject   string `json:"subject"`
	Action    string `json:"action"`
	Resource  string `json:"resource"`
	Address   string `json:"address,omitempty"`
	Presenter string `json:"presenter,omitempty"`
}

// Question reads the question as of a moment.
func (a *Asked) Question(at moment.Moment) (q engine.Question, err error) {
	q.At, q.Presenter = at, a.Presenter
	if q.Subject, err = engine.ParseWho(a.Subject); err != nil {
		return
	}
	if q.Action, err = engine.ParseAction(a.Action); err != nil {
		return
	}
	if q.Resource, err = engine.ParseResource(a.Resource); err != nil {
		return
	}
	if a.Address != "" {
		if q.Address, err = addr.Parse(a.Address); err != nil {
			err = &engine.WrongUse{Field: "context.address", Value: a.Address, Reason: err.Error()}
		}
	}
	return
}

// RequestState says what became of a request.
type RequestState string

// The states of a request. Works is when the question has become a yes, whoever made
// it so.
const (
	RequestOpen     RequestState = "open"
	RequestDrafted  RequestState = "drafted"
	RequestAnswered RequestState = "answered"
	RequestRefused  RequestState = "refused"
	RequestWorks    RequestState = "works"
)

// Request is a refused question, or a change of places that is not theirs to make, that a person of
// ours sends, with its purpose, to whoever can change it.
type Request struct {
	ID      string       `json:"id"`
	By      string       `json:"by"`               // the account
	Person  string       `json:"person,omitempty"` // of ours
	Asked   Asked        `json:"asked,omitzero"`
	Changes []PlaceEdit  `json:"changes,omitempty"` // what is to be changed; then nothing is asked
	Value   *AskedValue  `json:"value,omitempty"`   // a value that is to be set; then nothing else
	SignUp  *SignUp      `json:"sign_up,omitempty"` // somebody at the door who wants a record; then nothing else
	Bundle  *BundleAsked `json:"bundle,omitempty"`  // a bundle that is asked for; then nothing else
	Title   string       `json:"title,omitempty"`   // of the changes, as things were called when they were asked for
	Purpose string       `json:"purpose"`
	To      []string     `json:"to"` // administrator, owner:ID, partner:ID, the party
	Made    string       `json:"made"`
	State   RequestState `json:"state"`
	Draft   string       `json:"draft,omitempty"`
	Answer  string       `json:"answer,omitempty"` // or the reason of a no
	Closed  string       `json:"closed,omitempty"`
	Closer  string       `json:"closer,omitempty"`
	Heard   bool         `json:"heard,omitempty"` // the asker has seen what became of it
}

// IsChange reports whether it asks for something to be changed, rather than whether something may be.
func (r *Request) IsChange() bool {
	return len(r.Changes) > 0 || r.Value != nil || r.SignUp != nil || r.Bundle != nil
}

// over reports whether nothing more can become of it.
func (r *Request) over() bool {
	return r.State == RequestRefused || r.State == RequestWorks || r.State == RequestWithdrawn || r.State == RequestLapsed
}

func requestOf(doc []byte) (*Request, error) {
	r := &Request{}
	return r, json.Unmarshal(doc, r)
}

func putRequest(t *store.Tx, r *Request) error {
	doc, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = t.PutRecord("request", r.ID, doc)
	return err
}

// askFor keeps what fill says as a request of whoever asks, who must say what it is for and may ask for the same
// once at a time.
func (s *Service) askFor(ctx context.Context, who Who, purpose string, same func(old *Request) bool,
	fill func(now *State, t *store.Tx, r *Request) error) (*Request, error) {
	if purpose = strings.TrimSpace(purpose); purpose == "" || len(purpose) > 1000 {
		return nil, &Invalid{"purpose", purpose, "say what it is for, in 1 to 1000 letters"}
	}
	var r *Request
	err := s.change(ctx, who.Name, purpose, func(now *State, t *store.Tx) error {
		r = &Request{
			ID:      fmt.Sprintf("r%d", t.Head().Seq+1),
			By:      who.Name,
			Person:  who.Person,
			Purpose: purpose,
			Made:    s.Now().String(),
			State:   RequestOpen,
			To:      []string{},
		}
		if err := fill(now, t, r); err != nil {
			return err
		}
		if err := s.store.Naming(ctx, "request", `"by":`+jsonText(who.Name), func(_ string, doc []byte) error {
			old, err := requestOf(doc)
			if err == nil && !old.over() && old.By == who.Name && same(old) {
				return fmt.Errorf("%w: you have asked for this already, as %s", ErrConflict, old.ID)
			}
			return err
		}); err != nil {
			return err
		}
		return putRequest(t, r)
	})
	if err != nil {
		return nil, err
	}
	return r, nil
}

// MakeRequest sends a refused question to whoever can change it. A question that is a
// yes is refused.
func (s *Service) MakeRequest(ctx context.Context, who Who, asked Asked, purpose string) (*Request, error) {
	same := func(old *Request) bool { return old.Asked == asked }
	return s.askFor(ctx, who, purpose, same, func(now *State, _ *store.Tx, r *Request) error {
		q, err := asked.Question(s.Now())
		if err != nil {
			return err
		}
		v, err := now.Decide(&q)
		if err != nil {
			return err
		}
		if v.Yes {
			return fmt.Errorf("%w: it is a yes already; there is nothing to ask for", ErrConflict)
		}
		options, hopeless, err := remedy.Find(now.Snapshot, remedy.Request{Question: q, Until: moment.Never, MaxOption: 1})
		if err != nil {
			return err
		}
		if len(options) == 0 && len(hopeless) > 0 {
			return fmt.Errorf("%w: nobody can change it: %s", ErrConflict, hopeless[0].Cause.Text())
		}
		r.Asked = asked
		for _, o := range options {
			for _, c := range o.Changes {
				if !slices.Contains(r.To, c.Who) {
					r.To = append(r.To, c.Who)
				}
			}
		}
		if len(r.To) == 0 {
			r.To = []string{"administrator"}
		}
		return nil
	})
}

// Requests lists requests, the newest first: of members their own and those that they
// can change as an owner.
func (s *Service) Requests(ctx context.Context, who Who, over bool) ([]Request, error) {
	out := []Request{}
	err := s.store.Records(ctx, "request", "", func(_ string, doc []byte) error {
		r, err := requestOf(doc)
		if err == nil && (over || !r.over() || r.By == who.Name && !r.Heard) && mine(r, who) {
			out = append(out, *r)
		}
		return err
	})
	sort.SliceStable(out, func(i, j int) bool { return out[i].Made > out[j].Made })
	return out, err
}

// WhoInWords says by name whom a request goes to.
func (s *State) WhoInWords(to string) string {
	kind, id, _ := strings.Cut(to, ":")
	switch kind {
	case "administrator":
		return "an administrator"
	case "keeper":
		return "a keeper"
	case "owner":
		return cmp.Or(s.NameOf(world.Resource{Kind: catalogue.Person, ID: id}), id)
	case "partner":
		if p, err := s.Partner(id); err == nil {
			return "an administrator of " + p.Name
		}
	}
	return to
}

func mine(r *Request, who Who) bool {
	if !who.Own() || r.By == who.Name {
		return true
	}
	for _, to := range r.To {
		id, person := strings.CutPrefix(to, "owner:")
		if person && who.Person != "" && (id == who.Person || r.Bundle != nil && who.DeputyOf(id)) {
			return true
		}
	}
	return false
}

// requestKept finds a request; nil where there is none.
func (s *Service) requestKept(ctx context.Context, id string) (*Request, error) {
	doc, err := s.store.Record(ctx, "request", id)
	if err != nil || doc == nil {
		return nil, err
	}
	return requestOf(doc)
}

// RequestOf finds a request that somebody may see.
func (s *Service) RequestOf(ctx context.Context, who Who, id string) (*Request, error) {
	if r, err := s.requestKept(ctx, id); err != nil || r != nil && mine(r, who) {
		return r, err
	}
	return nil, noRequest(id)
}

func noRequest(id string) error { return fmt.Errorf("%w: there is no request %q", ErrNotFound, id) }

// requestIn reads a request within a change.
func requestIn(t *store.Tx, id string) (*Request, error) {
	doc, err := t.Record("request", id)
	if err != nil {
		return nil, err
	}
	if doc == nil {
		return nil, noRequest(id)
	}
	return requestOf(doc)
}

// onRequest changes a request.
func (s *Service) onRequest(ctx context.Context, who Who, id string, fn func(*Request) error) (*Request, error) {
	var out *Request
	err := s.change(ctx, who.Name, "", func(now *State, t *store.Tx) error {
		r, err := requestIn(t, id)
		if err != nil {
			return err
		}
		if !mine(r, who) {
			return noRequest(id)
		}
		was := r.State
		if err := fn(r); err != nil {
			return err
		}
		out = r
		if err := putRequest(t, r); err != nil || r.State == was {
			return err
		}
		return s.tellAsker(now, t, r)
	})
	return out, err
}

// mayClose reports whether somebody answers requests: whoever asked does not.
func mayClose(r *Request, who Who) error {
	if r.over() {
		return fmt.Errorf("%w: the request %s is over: %s", ErrConflict, r.ID, r.State)
	}
	if who.Own() && (r.By == who.Name || !mine(r, who)) {
		return fmt.Errorf("%w: those who can change it answer it", ErrConflict)
	}
	return nil
}

// AnswerRequest answers a request, or says no with a reason.
func (s *Service) AnswerRequest(ctx context.Context, who Who, id, text string, refuse bool) (*Request, error) {
	if text = strings.TrimSpace(text); text == "" {
		return nil, &Invalid{"text", text, "an answer, and a no too, says why"}
	}
	return s.onRequest(ctx, who, id, func(r *Request) error {
		if err := mayClose(r, who); err != nil {
			return err
		}
		if r.Bundle != nil {
			switch next, st := r.Bundle.step(), s.State(); {
			case !refuse:
				return fmt.Errorf("%w: give %s the bundle (do it), or say no with a reason", ErrConflict, r.Bundle.Address)
			case st.self(r, who):
				return fmt.Errorf("%w: nobody answers what they asked for, or would get; withdraw it", ErrForbidden)
			case !st.MayApprove(r, who):
				return fmt.Errorf("%w: it is answered by %s", ErrForbidden, st.toInWords(next.Who))
			}
		}
		if r.SignUp != nil && !refuse {
			return fmt.Errorf("%w: let %s in (do it), or say no with a reason", ErrConflict, r.SignUp.Address)
		}
		r.State, r.Answer, r.Closer, r.Closed, r.Heard = RequestAnswered, text, who.Name, s.Now().String(), false
		if refuse {
			r.State = RequestRefused
		}
		return nil
	})
}

// DraftRequest notes that a draft was made of a request.
func (s *Service) DraftRequest(ctx context.Context, who Who, id, draft string) (*Request, error) {
	return s.onRequest(ctx, who, id, func(r *Request) error {
		if err := mayClose(r, who); err != nil {
			return err
		}
		r.State, r.Draft, r.Closer, r.Heard = RequestDrafted, draft, who.Name, false
		return nil
	})
}

// HearRequest notes that the asker has seen what became of a request.
func (s *Service) HearRequest(ctx context.Context, who Who, id string) (*Request, error) {
	return s.onRequest(ctx, who, id, func(r *Request) error {
		if r.By != who.Name {
			return fmt.Errorf("%w: it is %s who asked", ErrConflict, r.By)
		}
		r.Heard = true
		return nil
	})
}

// isYes is a request whose question is a yes as things are meant.
type isYes struct {
	id string
	q  engine.Question
}

// noticeRequests finds requests whose question has become a yes, and says so.
func (s *Service) noticeRequests(ctx context.Context) error {
	head := s.State().Head.Seq
	if s.askedAt.Swap(head) == head {
		return nil
	}
	var works []string
	var meant []isYes
	var changes []*Request
	st := s.State()
	for _, state := range []RequestState{RequestOpen, RequestDrafted, RequestAnswered} {
		if err := s.store.Naming(ctx, "request", `"state":"`+string(state)+`"`, func(id string, doc []byte) error {
			r, err := requestOf(doc)
			if err != nil || r.State != state {
				return err
			}
			if r.IsChange() {
				changes = append(changes, r)
				return nil
			}
			q, err := r.Asked.Question(s.Now())
			if err != nil {
				return nil // what it is about is gone
			}
			if v, err := st.Decide(&q); err == nil && v.Yes {
				meant = append(meant, isYes{id, q})
			}
			return nil
		}); err != nil {
			s.askedAt.Store(0)
			return err
		}
	}
	for i := range meant {
		yes, err := s.inSuite(ctx, &meant[i].q)
		if err != nil {
			s.askedAt.Store(0)
			return err
		}
		if yes {
			works = append(works, meant[i].id)
		}
	}
	for _, r := range changes {
		done, err := s.requestDone(ctx, r)
		if err != nil {
			s.askedAt.Store(0)
			return err
		}
		if done {
			works = append(works, r.ID)
		}
	}
	for _, id := range works {
		_, err := s.onRequest(ctx, Who{Name: "wexillum", Role: Administrator}, id, func(r *Request) error {
			if r.over() {
				return errPreview // another service was first
			}
			r.State, r.Closed, r.Heard = RequestWorks, s.Now().String(), false
			return nil
		})
		if err != nil && !errors.Is(err, errPreview) {
			s.askedAt.Store(0)
			return err
		}
	}
	return nil
}
