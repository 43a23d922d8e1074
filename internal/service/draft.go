package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// DraftState says how far a draft has come.
type DraftState string

// The states of a draft. Open can be edited; Waiting asks somebody else to confirm;
// Set is published at its moment; Published and Dropped are over.
const (
	DraftOpen      DraftState = "open"
	DraftWaiting   DraftState = "waiting"
	DraftSet       DraftState = "set"
	DraftPublished DraftState = "published"
	DraftDropped   DraftState = "dropped"
)

// Weighing is a wish to publish a draft exactly as it was weighed.
type Weighing struct {
	By          string `json:"by"`
	At          string `json:"at"`
	Why         string `json:"why"`
	Digest      string `json:"digest"`
	Revision    uint64 `json:"revision"`             // that it was weighed on
	PublishAt   string `json:"publish_at,omitempty"` // empty is at once
	ConfirmedBy string `json:"confirmed_by,omitempty"`
}

// Release is a value of a space, item or meeting that going back releases: publishing
// had held it back.
type Release struct {
	Where string `json:"where"`
	Rule  string `json:"rule"`
	Value string `json:"value"`
}

// Draft is policy being edited.
type Draft struct {
	ID        string       `json:"id"`
	Name      string       `json:"name"`
	MadeBy    string       `json:"made_by"`
	Made      string       `json:"made"`
	Base      uint64       `json:"base"` // the revision that the edits are brought up to
	Edits     []draft.Edit `json:"edits"`
	Releases  []Release    `json:"releases,omitempty"`
	State     DraftState   `json:"state"`
	Quick     bool         `json:"quick,omitempty"` // one change, published at once
	Back      uint64       `json:"back,omitempty"`  // the revision that it goes back to
	Weighed   *Weighing    `json:"weighed,omitempty"`
	Published uint64       `json:"published,omitempty"` // the revision that it became
	Note      string       `json:"note,omitempty"`      // why it is open again
	Aside     bool         `json:"aside,omitempty"`     // a change that is only looked at, in no list
}

func (d *Draft) doc() []byte {
	doc, err := json.Marshal(d)
	if err != nil {
		panic(err) // no draft fails
	}
	return doc
}

// Etag is the validator of a draft.
func (d *Draft) Etag() string { return Etag(d.doc()) }

// publishAt is the moment that it is set to be published at; Always for at once.
func (d *Draft) publishAt() moment.Moment {
	if d.Weighed == nil || d.Weighed.PublishAt == "" {
		return moment.Always
	}
	at, err := moment.Parse(d.Weighed.PublishAt)
	if err != nil {
		panic(err) // it was written by us
	}
	return at
}

func draftOf(doc []byte) (*Draft, error) {
	d := &Draft{}
	return d, json.Unmarshal(doc, d)
}

// Over reports whether nothing can become of it any more.
func (d *Draft) Over() bool { return d.State == DraftPublished || d.State == DraftDropped }

type draftKey struct{}

// InDraft makes changes of policy under ctx edits of a draft, and State the state as
// the draft would make it.
func InDraft(ctx context.Context, id string) context.Context {
	return context.WithValue(ctx, draftKey{}, id)
}

// DraftIn returns the draft that changes under ctx go to; empty for none.
func DraftIn(ctx context.Context) string {
	id, _ := ctx.Value(draftKey{}).(string)
	return id
}

// DraftNow is a draft against the policy in force: its edits brought up to date, and
// those that something else has changed meanwhile.
type DraftNow struct {
	*Draft
	Live      *State
	Clean     []draft.Edit
	Conflicts []draft.Conflict
	Moved     bool     // edits were brought up to date with a newer revision
	Loosens   []string // in what it is looser than the policy in force
	Second    bool     // somebody else must confirm it
	Digest    string   // of what would be published now
	After     *State   // with the draft; nil where there are conflicts
}

func digestOf(revision uint64, edits []draft.Edit, releases []Release) string {
	h := sha256.New()
	put := func(b []byte) { fmt.Fprintf(h, "%d:", len(b)); h.Write(b) }
	fmt.Fprintf(h, "%d ", revision)
	for i := range edits {
		e := &edits[i]
		put([]byte(e.Kind))
		put([]byte(e.ID))
		put(e.Was)
		put(e.Now)
	}
	for _, r := range releases {
		put([]byte(r.Where + " " + r.Rule + " " + r.Value))
	}
	return hex.EncodeToString(h.Sum(nil))[:32]
}

// stand finds how a draft stands against a state.
func (s *Service) stand(d *Draft, live *State) (*DraftNow, error) {
	return s.standAt(d, live, s.Now())
}

// standAt does the same for a draft that is published at a moment, or later where it is set to be.
func (s *Service) standAt(d *Draft, live *State, at moment.Moment) (*DraftNow, error) {
	x := &DraftNow{Draft: d, Live: live}
	if d.Over() {
		x.Clean = d.Edits
		return x, nil
	}
	x.Clean, x.Conflicts = draft.Rebase(d.Edits, s.docs(live))
	for i := range x.Clean {
		x.Moved = x.Moved || i >= len(d.Edits) || string(x.Clean[i].Now) != string(d.Edits[i].Now) ||
			string(x.Clean[i].Was) != string(d.Edits[i].Was)
	}
	x.Moved = x.Moved || len(x.Clean)+len(x.Conflicts) != len(d.Edits)
	if len(x.Conflicts) > 0 {
		return x, nil
	}
	next, err := worldfile.ApplyEdits(live.Policy(), x.Clean)
	if err != nil {
		return nil, err
	}
	if next != live.Policy() {
		next = world.Merge(next, &world.World{})
	}
	x.After = live.With(next, max(at, d.publishAt()))
	x.Loosens = draft.Loosens(live.Policy(), next)
	if len(d.Releases) > 0 {
		x.Loosens = append(x.Loosens, "values that were held back")
	}
	x.Second = len(x.Clean)+len(d.Releases) > 0 && needsSecond(live.Policy(), x.Loosens)
	x.Digest = digestOf(live.Head.Revision, x.Clean, d.Releases)
	x.After.Variant, x.After.AsDraft = live.Variant+" "+x.Digest, d.Name
	return x, nil
}

func needsSecond(p *world.World, loosens []string) bool {
	if p.Organisation == nil {
		return false
	}
	switch p.Organisation.TwoPeople {
	case "always":
		return true
	case "loosening":
		return len(loosens) > 0
	}
	return false
}

// draftAsked is what was last told about a draft, and of which state.
type draftAsked struct {
	etag string
	head store.Head
	x    *DraftNow
}

// draftNow returns how a draft stands against the present state, found once for each
// version of both.
func (s *Service) draftNow(d *Draft, live *State) (*DraftNow, error) {
	etag := d.Etag()
	s.draftsAsked.Lock()
	old, ok := s.draftsAsked.by[d.ID]
	s.draftsAsked.Unlock()
	if ok && old.etag == etag && old.head == live.Head {
		return old.x, nil
	}
	x, err := s.stand(d, live)
	if err != nil {
		return nil, err
	}
	s.draftsAsked.Lock()
	defer s.draftsAsked.Unlock()
	if s.draftsAsked.by == nil || len(s.draftsAsked.by) > 16 {
		s.draftsAsked.by = map[string]draftAsked{}
	}
	s.draftsAsked.by[d.ID] = draftAsked{etag, live.Head, x}
	return x, nil
}

// docs returns the policy of a state entry by entry; those of the last state are kept.
func (s *Service) docs(st *State) draft.Docs {
	s.keptDocs.Lock()
	defer s.keptDocs.Unlock()
	if s.keptDocs.of != st.Policy() {
		s.keptDocs.of, s.keptDocs.docs = st.Policy(), worldfile.DocsOf(st.Policy())
	}
	return s.keptDocs.docs
}

// StateIn returns the present view; under InDraft as the draft would make it.
func (s *Service) StateIn(ctx context.Context) (*State, error) {
	if most, found := FoundIn(ctx); found {
		return s.StateFound(ctx, most)
	}
	id := DraftIn(ctx)
	if id == "" {
		return s.State(), nil
	}
	x, err := s.Draft(ctx, id)
	switch {
	case err != nil:
		return nil, err
	case x.Over():
		return nil, fmt.Errorf("%w: the draft %q is %s", ErrConflict, x.Name, x.State)
	case len(x.Conflicts) > 0:
		return nil, x.conflicting()
	}
	return x.After, nil
}

func (x *DraftNow) conflicting() error {
	c := &x.Conflicts[0]
	return fmt.Errorf(
		"%w: %s was changed meanwhile (%s); say what the draft %q is to keep",
		ErrConflict,
		strings.TrimSpace(c.Edit.Kind+" "+c.Edit.ID),
		strings.Join(append(c.Fields, ""), " "),
		x.Name,
	)
}

// Drafts lists drafts, the newest first; over says whether those that are over too.
func (s *Service) Drafts(ctx context.Context, over bool) ([]Draft, error) {
	if over {
		return s.draftsIn(ctx, "")
	}
	return s.draftsIn(ctx, DraftOpen, DraftWaiting, DraftSet)
}

// draftsIn lists the drafts in some states; the empty one is all.
func (s *Service) draftsIn(ctx context.Context, states ...DraftState) ([]Draft, error) {
	out := []Draft{}
	for _, state := range states {
		text := `"state":"` + string(state)
		if state != "" {
			text += `"`
		}
		if err := s.store.Naming(ctx, "draft", text, func(_ string, doc []byte) error {
			d, err := draftOf(doc)
			if err == nil && (state == "" || d.State == state) {
				out = append(out, *d)
			}
			return err
		}); err != nil {
			return nil, err
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Made > out[j].Made })
	return out, nil
}

// draftRecords is where a draft is read: the database, or a change of it.
type draftRecords interface {
	Draft(id string) ([]byte, error)
	Weighed(id string) ([]byte, error)
}

type storedDrafts struct {
	ctx context.Context
	s   *store.Store
}

func (x storedDrafts) Draft(id string) ([]byte, error)   { return x.s.Record(x.ctx, "draft", id) }
func (x storedDrafts) Weighed(id string) ([]byte, error) { return x.s.Weighed(x.ctx, id) }

type changedDrafts struct{ t *store.Tx }

func (x changedDrafts) Draft(id string) ([]byte, error)   { return x.t.Record("draft", id) }
func (x changedDrafts) Weighed(id string) ([]byte, error) { return x.t.Weighed(id) }

// draftNamed finds a draft by its id, or by its name among those that are not over.
func (s *Service) draftNamed(ctx context.Context, name string, records draftRecords) (*Draft, error) {
	doc, err := records.Draft(name)
	if err == nil && doc == nil {
		doc, err = records.Weighed(name)
	}
	if err != nil {
		return nil, err
	}
	if doc != nil {
		return draftOf(doc)
	}
	all, err := s.Drafts(ctx, false)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if strings.EqualFold(all[i].Name, name) {
			return &all[i], nil
		}
	}
	return nil, fmt.Errorf("%w: there is no draft %q", ErrNotFound, name)
}

// Draft finds a draft by id or name, and how it stands against the policy in force.
func (s *Service) Draft(ctx context.Context, id string) (*DraftNow, error) {
	live := s.State()
	d, err := s.draftNamed(ctx, id, storedDrafts{ctx, s.store})
	if err != nil {
		return nil, err
	}
	return s.draftNow(d, live)
}

// MakeDraft makes a draft on the policy in force. A quick one, for a single change, is
// named after what it changes.
func (s *Service) MakeDraft(ctx context.Context, who, name string, quick bool) (*Draft, error) {
	name = strings.TrimSpace(name)
	if !quick && (name == "" || len(name) > 120) {
		return nil, &Invalid{"name", name, "a draft has a name of 1 to 120 letters"}
	}
	var d *Draft
	err := s.change(ctx, who, "", func(now *State, t *store.Tx) error {
		if quick {
			d = s.newDraft(t, now, who, draft.Titles(nil))
			d.ID, d.Quick, d.Aside = "w"+strings.ToLower(rand.Text()[:14]), true, true
			if err := t.SweepWeighed(s.Now() - moment.Moment(weighingLasts.Microseconds())); err != nil {
				return err
			}
			return s.putDraft(t, d)
		}
		if err := s.free(ctx, name); err != nil {
			return err
		}
		d = s.newDraft(t, now, who, name)
		return s.putDraft(t, d)
	})
	return d, err
}

// MakeDraftOf makes a draft with what make changes as its edits, and returns its id. A
// name that is taken gets a number.
func (s *Service) MakeDraftOf(ctx context.Context, who, name, why string, make func(*State) (*world.World, error)) (string, error) {
	d, err := s.MakeDraft(ctx, who, name, false)
	for n := 2; errors.Is(err, ErrConflict) && n < 100; n++ {
		d, err = s.MakeDraft(ctx, who, fmt.Sprintf("%.110s (%d)", name, n), false)
	}
	if err != nil {
		return "", err
	}
	if err := s.editDraft(ctx, d.ID, who, why, make); err != nil {
		return "", errors.Join(err, s.DropDraft(context.WithoutCancel(ctx), who, "it could not be made", d.ID))
	}
	return d.ID, nil
}

// newDraft returns a draft with an id that no other has.
func (s *Service) newDraft(t *store.Tx, now *State, who, name string) *Draft {
	return &Draft{
		ID:     fmt.Sprintf("d%d", t.Head().Seq+1),
		Name:   name,
		MadeBy: who,
		Made:   s.Now().String(),
		Base:   now.Head.Revision,
		Edits:  []draft.Edit{},
		State:  DraftOpen,
	}
}

// free refuses a name that another draft has that is not over.
func (s *Service) free(ctx context.Context, name string) error {
	all, err := s.Drafts(ctx, false)
	if err != nil {
		return err
	}
	for i := range all {
		if strings.EqualFold(all[i].Name, name) {
			return fmt.Errorf("%w: there is a draft %q already, %s", ErrConflict, all[i].Name, all[i].ID)
		}
	}
	return nil
}

// weighingLasts is how long a change is kept that somebody looked at and did not decide about.
const weighingLasts = 24 * time.Hour

// putDraft keeps a draft. A single change that is only looked at so far is kept aside; it
// becomes a draft, with a journal entry, once somebody decides about it, and goes without a
// trace where they decide against it.
func (s *Service) putDraft(t *store.Tx, d *Draft) error {
	if d.Aside {
		switch d.State {
		case DraftOpen:
			return t.PutWeighed(d.ID, d.doc(), s.Now())
		case DraftDropped:
			return t.EndWeighed(d.ID)
		}
		d.Aside = false
		if err := t.EndWeighed(d.ID); err != nil {
			return err
		}
	}
	_, err := t.PutRecord("draft", d.ID, d.doc())
	return err
}

// KeepDraft makes a change that is looked at a draft, for later or for somebody else.
func (s *Service) KeepDraft(ctx context.Context, who, why, id string) (*DraftNow, error) {
	return s.onDraft(ctx, who, why, id, "", func(x *DraftNow, t *store.Tx) error {
		if !x.Aside {
			return fmt.Errorf("%w: %q is a draft already", ErrConflict, x.Name)
		}
		x.Draft.Aside = false
		name := x.Name
		for n := 2; s.free(ctx, x.Name) != nil && n < 100; n++ {
			x.Draft.Name = fmt.Sprintf("%.110s (%d)", name, n)
		}
		return t.EndWeighed(x.ID)
	})
}

// RestoreDraft opens a draft again that was given up.
func (s *Service) RestoreDraft(ctx context.Context, who, why, id string) (*DraftNow, error) {
	err := s.change(ctx, who, why, func(_ *State, t *store.Tx) error {
		doc, err := t.Record("draft", id)
		if err != nil {
			return err
		}
		if doc == nil {
			return fmt.Errorf("%w: there is no draft %q", ErrNotFound, id)
		}
		d, err := draftOf(doc)
		if err != nil {
			return err
		}
		if d.State != DraftDropped {
			return fmt.Errorf("%w: the draft %q is %s; only what was given up is taken back", ErrConflict, d.Name, d.State)
		}
		if err := s.free(ctx, d.Name); err != nil {
			return err
		}
		d.State, d.Note, d.Weighed = DraftOpen, "", nil
		return s.putDraft(t, d)
	})
	if err != nil {
		return nil, err
	}
	return s.Draft(ctx, id)
}
