package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"sync"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

// metadata and evaluations of AuthZEN (OpenID AuthZEN Authorization API 1.0).

type azEntity struct {
	Type       string          `json:"type"`
	ID         string          `json:"id"`
	Properties json.RawMessage `json:"properties,omitempty"`
}

type azAction struct {
	Name       string          `json:"name"`
	Properties json.RawMessage `json:"properties,omitempty"`
}

type azRequest struct {
	Subject  *azEntity      `json:"subject"`
	Action   *azAction      `json:"action"`
	Resource *azEntity      `json:"resource"`
	Context  map[string]any `json:"context"`
}

type azBatch struct {
	azRequest
	Evaluations []json.RawMessage `json:"evaluations"` // each by itself, so that one that makes no sense fails alone
	Options     *struct {
		Semantic string `json:"evaluations_semantic"`
	} `json:"options"`
}

type azAnswer struct {
	Decision bool `json:"decision"`
	Context  any  `json:"context,omitempty"`
}

// question turns an AuthZEN request into a question of ours.
func (q *azRequest) question(st *service.State, now moment.Moment) (engine.Question, error) {
	var none engine.Question
	switch {
	case q.Subject == nil || q.Subject.Type == "" || q.Subject.ID == "":
		return none, &engine.WrongUse{Field: "subject", Reason: "give its type and its id"}
	case q.Action == nil || q.Action.Name == "":
		return none, &engine.WrongUse{Field: "action", Reason: "give its name"}
	case q.Resource == nil || q.Resource.Type == "" || q.Resource.ID == "":
		return none, &engine.WrongUse{Field: "resource", Reason: "give its type and its id"}
	}
	out := contract.Question{Action: q.Action.Name, Resource: q.Resource.Type + ":" + q.Resource.ID}
	switch q.Subject.Type {
	case "party":
		out.Subject = q.Subject.ID
		if strings.HasPrefix(out.Subject, "person:") || strings.HasPrefix(out.Subject, "link:") {
			return none, &engine.WrongUse{Field: "subject.id", Value: out.Subject, Reason: "the id of a party is an address or *@domain"}
		}
	case "person", "link":
		out.Subject = q.Subject.Type + ":" + q.Subject.ID
	default:
		return none, &engine.WrongUse{Field: "subject.type", Value: q.Subject.Type, Reason: "write party, person or link"}
	}
	var c contract.QuestionContext
	for key, v := range q.Context {
		text, isText := v.(string)
		var into **string
		switch key {
		case "at":
			into = &out.At
		case "address":
			into = &c.Address
		case "presenter":
			into = &c.Presenter
		case "account":
			if isText {
				c.Account = ptr(contract.QuestionContextAccount(text))
			}
		case "keep_copy":
			b, ok := v.(bool)
			if !ok {
				return none, &engine.WrongUse{Field: "context.keep_copy", Value: fmt.Sprint(v), Reason: "write true or false"}
			}
			c.KeepCopy = &b
			continue
		case "enforces": // see enforced
			continue
		default:
			continue // what a gateway adds for itself
		}
		if !isText {
			return none, &engine.WrongUse{Field: "context." + key, Value: fmt.Sprint(v), Reason: "a text is expected"}
		}
		if into != nil {
			*into = &text
		}
	}
	out.Context = &c
	return answer.Question(&out, st.Snapshot, now, answer.NoNames)
}

// enforced reads which conditions whoever asks sees to: a yes that asks for another is a no.
func (q *azRequest) enforced() (catalogue.Condition, error) {
	v, said := q.Context["enforces"]
	if !said {
		return 0, nil
	}
	list, ok := v.([]any)
	if !ok {
		return 0, &engine.WrongUse{Field: "context.enforces", Value: fmt.Sprint(v), Reason: "a list of conditions is expected"}
	}
	var out catalogue.Condition
	for _, x := range list {
		name, _ := x.(string)
		c, ok := catalogue.ParseCondition(name)
		if !ok {
			return 0, &engine.WrongUse{Field: "context.enforces", Value: fmt.Sprint(x),
				Reason: "conditions are " + strings.Join((^catalogue.Condition(0)).Names(), ", ")}
		}
		out |= c
	}
	return out, nil
}

// keepsFor is how long an answer may be kept, in seconds, where nothing dated comes before: what is changed meanwhile is not
// heard of by whoever keeps it longer.
const keepsFor = 30

// keeps is how long an answer may be kept, in seconds: until it would be another by dates alone, at most keepsFor. later is room.
func keeps(st *service.State, q *engine.Question, now engine.Verdict, later *engine.Question) int {
	same := func(seconds int) bool {
		*later = *q
		later.At += moment.Moment(seconds) * 1e6
		v, err := st.Decide(later)
		return err == nil && v.Yes == now.Yes && v.Conditions == now.Conditions
	}
	if same(keepsFor) {
		return keepsFor
	}
	return sort.Search(keepsFor, func(n int) bool { return !same(n + 1) })
}

// rooms are for requests and answers while they are read and written.
var rooms = sync.Pool{New: func() any { return &azRoom{gates: make([]azGate, 0, catalogue.NumGates)} }}

// asOf is when a request is answered, and up to when it is known what changed;
// with the texts of both, which all answers of a batch have.
type asOf struct {
	now            moment.Moment
	nowIs, knownAt string
}

func (s *server) asOf() *asOf {
	now := s.Service.Now()
	return &asOf{now, now.String(), s.Service.KnownAt().String()}
}

// evaluate answers one request. What it returns lies in the room, up to the next.
func (s *server) evaluate(ctx context.Context, st *service.State, q *azRequest, as *asOf, room *azRoom) (azAnswer, error) {
	now := as.now
	enforced, err := q.enforced()
	if err != nil {
		return azAnswer{}, err
	}
	question, err := q.question(st, now)
	if err != nil {
		return azAnswer{}, err
	}
	if question.At < now { // of what was recorded then
		if st, _, err = s.Service.At(ctx, question.At); err != nil {
			return azAnswer{}, err
		}
	}
	x, err := st.ExplainIn(&room.Explanation, &question)
	if wrong := (*engine.WrongUse)(nil); errors.As(err, &wrong) && wrong.Unknown() { // the question makes sense: nobody may
		return azAnswer{Context: azUnknown{wrong.Error(), st.Head.Revision, question.At.String(), as.knownAt, keepsFor}}, nil
	}
	if err != nil {
		return azAnswer{}, err
	}
	s.metrics.decided(question.Action, x.Yes())
	if !x.Yes() && question.At == now {
		s.Service.Refused(st, &question)
	}
	d := x.Deciding()
	gates, bundle := room.gates[:0], ""
	room.causes = room.causes[:0]
	for i := range d.Gates {
		g := &d.Gates[i]
		out, first := azGate{Gate: g.Gate.String(), Answer: g.String()}, len(room.causes)
		for j := range g.Causes {
			c := &g.Causes[j]
			if bundle = cmp.Or(bundle, c.Bundle); c.Refuses {
				room.causes = append(room.causes, azCause{c.Code.String(), c.Side.String(), c.WhoText(), c.Text()})
			}
		}
		out.Causes = room.causes[first:len(room.causes):len(room.causes)]
		gates = append(gates, out)
	}
	room.gates = gates
	out := &room.found
	*out = azFound{
		Conditions: d.Conditions.Names(), Account: d.Account.String(), Gates: gates, Revision: st.Head.Revision, At: as.nowIs,
		KnownAt: as.knownAt, KeepSeconds: keeps(st, &question, d.Verdict, &room.later),
	}
	if question.At != now {
		out.At = question.At.String()
	}
	if x.Yes() {
		out.Bundle = bundle
		out.Unenforced = (d.Conditions &^ enforced).Names()
	}
	return azAnswer{Decision: x.Yes() && len(out.Unenforced) == 0, Context: out}, nil
}

// What the context of an answer holds: what was found, or what is wrong with one
// member of a batch.
type (
	azFound struct {
		Conditions []string `json:"conditions"`
		Account    string   `json:"account"`
		Gates      []azGate `json:"gates"`
		Revision   uint64   `json:"revision"`
		At         string   `json:"at"`
		// Unenforced are conditions of a yes that whoever asks does not say it enforces, so that the decision is no.
		Unenforced  []string `json:"unenforced,omitempty"`
		Bundle      string   `json:"bundle,omitempty"` // the id of the bundle that a yes rests on
		KnownAt     string   `json:"known_at"`         // up to when it is known what changed
		KeepSeconds int      `json:"keep_seconds"`     // how long the answer may be kept
	}
	azUnknown struct {
		Reason      string `json:"reason"`
		Revision    uint64 `json:"revision"`
		At          string `json:"at"`
		KnownAt     string `json:"known_at"`
		KeepSeconds int    `json:"keep_seconds"`
	}
	azGate struct {
		Gate   string    `json:"gate"`
		Answer string    `json:"answer"`
		Causes []azCause `json:"causes,omitempty"`
	}
	azCause struct {
		Code string `json:"code"`
		Side string `json:"side"`
		Who  string `json:"who,omitempty"`
		Text string `json:"text"`
	}
	azFault struct {
		Error azError `json:"error"`
	}
	azError struct {
		Status  int    `json:"status"`
		Message string `json:"message"`
	}
)

func writeJSON(w http.ResponseWriter, v any) {
	doc, err := json.Marshal(v)
	if err != nil {
		panic("api: " + err.Error()) // what is written consists of texts and numbers
	}
	sendJSON(w, append(doc, '\n'))
}

// sendJSON sends a document that is there in pieces.
func sendJSON(w http.ResponseWriter, pieces ...[]byte) {
	size := 0
	for _, p := range pieces {
		size += len(p)
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Length", strconv.Itoa(size))
	for _, p := range pieces {
		_, _ = w.Write(p)
	}
}

func (s *server) decodeAuthzen(w http.ResponseWriter, r *http.Request, into any) bool {
	err := decode(r, into)
	if err == nil {
		return true
	}
	switch {
	case errors.Is(err, errMedia):
		writeProblem(w, problemMedia.with(err.Error()))
	default:
		writeProblem(w, badBody(err))
	}
	return false
}

func (s *server) evaluation(w http.ResponseWriter, r *http.Request) {
	var q azRequest
	if !s.decodeAuthzen(w, r, &q) {
		return
	}
	s.one(w, r, &q)
}

func (s *server) one(w http.ResponseWriter, r *http.Request, q *azRequest) {
	as := s.asOf() // before the state: what is known then is in it
	room := rooms.Get().(*azRoom)
	defer rooms.Put(room)
	a, err := s.evaluate(r.Context(), s.state(r.Context()), q, as, room)
	if err != nil {
		s.failed(w, r, err)
		return
	}
	room.out = append(a.appendTo(room.out[:0]), '\n')
	sendJSON(w, room.out)
}

// maxEvaluations bounds one batch.
const maxEvaluations = 1000

func (s *server) evaluations(w http.ResponseWriter, r *http.Request) {
	var b azBatch
	if !s.decodeAuthzen(w, r, &b) {
		return
	}
	semantic := "execute_all"
	if b.Options != nil && b.Options.Semantic != "" {
		semantic = b.Options.Semantic
	}
	switch semantic {
	case "execute_all", "deny_on_first_deny", "permit_on_first_permit":
	default:
		s.failed(
			w,
			r,
			&engine.WrongUse{
				Field:  "options.evaluations_semantic",
				Value:  semantic,
				Reason: "write execute_all, deny_on_first_deny or permit_on_first_permit",
			},
		)
		return
	}
	if len(b.Evaluations) == 0 {
		s.one(w, r, &b.azRequest)
		return
	}
	if len(b.Evaluations) > maxEvaluations {
		s.failed(
			w,
			r,
			&service.Invalid{
				Field:  "evaluations",
				Value:  strconv.Itoa(len(b.Evaluations)),
				Reason: fmt.Sprintf("at most %d in one request", maxEvaluations),
			},
		)
		return
	}
	as := s.asOf() // one moment, and one state, for the whole batch
	st := s.state(r.Context())
	member := func(i int, room *azRoom) (a azAnswer) {
		defer func() { // what recovers a request does not reach into its goroutines
			if p := recover(); p != nil {
				s.Log.ErrorContext(r.Context(), "an evaluation failed", "error", p)
				a = azAnswer{Context: azFault{azError{http.StatusInternalServerError, "it failed"}}}
			}
		}()
		var q azRequest
		if err := room.read(b.Evaluations[i], &q); err != nil {
			return azAnswer{Context: azFault{azError{http.StatusBadRequest,
				"this member is no evaluation: give subject, action and resource as objects"}}}
		}
		if q.Subject == nil {
			q.Subject = b.Subject
		}
		if q.Action == nil {
			q.Action = b.Action
		}
		if q.Resource == nil {
			q.Resource = b.Resource
		}
		if q.Context == nil {
			q.Context = b.Context
		}
		a, err := s.evaluate(r.Context(), st, &q, as, room)
		if err != nil {
			a = azAnswer{Context: azFault{azError{problemOf(err).Status, err.Error()}}}
		}
		return a
	}
	n := len(b.Evaluations)
	share := n
	if semantic == "execute_all" { // none depends on another: all processors take their share
		share = max(64, (n+runtime.GOMAXPROCS(0)-1)/runtime.GOMAXPROCS(0))
	}
	parts := make([]*azRoom, (n+share-1)/share) // each writes into a room of its own
	answer := func(k int) {
		room := rooms.Get().(*azRoom)
		parts[k] = room
		room.out = room.out[:0]
		for i := k * share; i < min((k+1)*share, n); i++ {
			if i > 0 {
				room.out = append(room.out, ',')
			}
			a := azAnswer{}
			if r.Context().Err() == nil { // else nobody waits any more
				a = member(i, room)
			}
			room.out = a.appendTo(room.out)
			if semantic != "execute_all" && a.Decision == (semantic == "permit_on_first_permit") {
				break
			}
		}
	}
	if len(parts) == 1 {
		answer(0)
	} else {
		var all sync.WaitGroup
		for k := range parts {
			all.Go(func() { answer(k) })
		}
		all.Wait()
	}
	pieces := [][]byte{[]byte(`{"evaluations":[`)}
	for _, room := range parts {
		pieces = append(pieces, room.out)
	}
	sendJSON(w, append(pieces, []byte("]}\n"))...)
	for _, room := range parts {
		rooms.Put(room)
	}
}

func (s *server) authzenConfiguration(w http.ResponseWriter, r *http.Request) {
	base := s.base(r)
	writeJSON(
		w,
		map[string]any{
			"policy_decision_point":       base,
			"access_evaluation_endpoint":  base + "/access/v1/evaluation",
			"access_evaluations_endpoint": base + "/access/v1/evaluations",
			"search_subject_endpoint":     base + "/access/v1/search/subject",
			"search_resource_endpoint":    base + "/access/v1/search/resource",
			"search_action_endpoint":      base + "/access/v1/search/action",
		},
	)
}
