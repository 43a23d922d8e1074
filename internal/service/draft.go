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

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/engine"
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
		x.Moved = x.Moved || i >= len(d.Edits) || string(x.Clean[i].Now) != string(d.Edits[i].Now) || string(x.Clean[i].Was) != string(d.Edits[i].Was)
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

// stood is how a draft stood last.
type stood struct {
	etag string
	head store.Head
	x    *DraftNow
}

// draftNow returns how a draft stands against the present state, found once for each
// version of both.
func (s *Service) draftNow(d *Draft, live *State) (*DraftNow, error) {
	etag := d.Etag()
	s.stood.Lock()
	old, ok := s.stood.by[d.ID]
	s.stood.Unlock()
	if ok && old.etag == etag && old.head == live.Head {
		return old.x, nil
	}
	x, err := s.stand(d, live)
	if err != nil {
		return nil, err
	}
	s.stood.Lock()
	defer s.stood.Unlock()
	if s.stood.by == nil || len(s.stood.by) > 16 {
		s.stood.by = map[string]stood{}
	}
	s.stood.by[d.ID] = stood{etag, live.Head, x}
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
	return fmt.Errorf("%w: %s was changed meanwhile (%s); say what the draft %q is to keep", ErrConflict, strings.TrimSpace(c.Edit.Kind+" "+c.Edit.ID), strings.Join(append(c.Fields, ""), " "), x.Name)
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
	return &Draft{ID: fmt.Sprintf("d%d", t.Head().Seq+1), Name: name, MadeBy: who, Made: s.Now().String(), Base: now.Head.Revision, Edits: []draft.Edit{}, State: DraftOpen}
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

// onDraft changes a draft. fn gets how it stands; what it leaves in the draft is kept.
func (s *Service) onDraft(ctx context.Context, who, why, name, ifMatch string, fn func(x *DraftNow, t *store.Tx) error) (*DraftNow, error) {
	id := "" // a name is not found any more once the draft is over
	gone := false
	err := s.changeLong(ctx, who, why, func(now *State, t *store.Tx) error {
		d, err := s.draftNamed(ctx, name, changedDrafts{t})
		if err != nil {
			return err
		}
		id = d.ID
		if ifMatch != "" && ifMatch != d.Etag() {
			return ErrStale
		}
		if d.Over() {
			return fmt.Errorf("%w: the draft %q is %s already", ErrConflict, d.Name, d.published())
		}
		x, err := s.stand(d, now)
		if err != nil {
			return err
		}
		if err := fn(x, t); err != nil {
			return err
		}
		gone = d.Aside && d.State == DraftDropped
		return s.putDraft(t, d)
	})
	if err != nil || gone {
		return nil, err
	}
	return s.Draft(ctx, id)
}

func (d *Draft) published() string {
	if d.State == DraftPublished {
		return fmt.Sprintf("published, as revision %d", d.Published)
	}
	return string(d.State)
}

// reopen makes a draft open again: what was weighed is no longer what it holds.
func (d *Draft) reopen(note string) {
	if d.State == DraftWaiting || d.State == DraftSet {
		d.State, d.Note, d.Weighed = DraftOpen, note, nil
	}
}

// editDraft makes a change of policy an edit of a draft.
func (s *Service) editDraft(ctx context.Context, id, who, why string, make func(*State) (*world.World, error)) error {
	_, err := s.onDraft(ctx, who, why, id, "", func(x *DraftNow, _ *store.Tx) error {
		if len(x.Conflicts) > 0 {
			return x.conflicting()
		}
		next, err := make(x.After)
		if err != nil {
			return err
		}
		if gone := lost(x.After.Policy(), next); gone != "" {
			return fmt.Errorf("%w: the partner %q goes, and what names it is no policy; do it outside a draft", ErrConflict, gone)
		}
		edits := draft.Diff(s.docs(x.Live), worldfile.DocsOf(next), x.Clean, who, s.Now().String(), why)
		x.Draft.Edits, x.Draft.Base = edits, x.Live.Head.Revision
		if x.Quick {
			x.Draft.Name = draft.Titles(edits)
		}
		x.reopen("it was edited after it was weighed")
		return nil
	})
	return err
}

func lost(was, next *world.World) string {
	have := map[string]bool{}
	for i := range next.Partners {
		have[next.Partners[i].ID] = true
	}
	for i := range was.Partners {
		if !have[was.Partners[i].ID] {
			return was.Partners[i].ID
		}
	}
	return ""
}

// UndoEdit takes an edit out of a draft; an empty kind takes all.
func (s *Service) UndoEdit(ctx context.Context, who, why, id, kind, entry, ifMatch string) (*DraftNow, error) {
	return s.onDraft(ctx, who, why, id, ifMatch, func(x *DraftNow, _ *store.Tx) error {
		kept := []draft.Edit{}
		for _, e := range x.Edits {
			if kind != "" && (e.Kind != kind || e.ID != entry) {
				kept = append(kept, e)
			}
		}
		if len(kept) == len(x.Edits) {
			return fmt.Errorf("%w: the draft %q has no edit of %s %s", ErrNotFound, x.Name, kind, entry)
		}
		if kind == "" {
			x.Draft.Releases = nil
		}
		x.Draft.Edits = kept
		x.reopen("it was edited after it was weighed")
		return nil
	})
}

// SettleEdit decides a conflict: the draft keeps its edit, or takes what is in force.
func (s *Service) SettleEdit(ctx context.Context, who, why, id, kind, entry string, keep bool) (*DraftNow, error) {
	return s.onDraft(ctx, who, why, id, "", func(x *DraftNow, _ *store.Tx) error {
		edits := append([]draft.Edit{}, x.Clean...)
		found := false
		for _, c := range x.Conflicts {
			if c.Edit.Kind != kind || c.Edit.ID != entry {
				edits = append(edits, c.Edit)
				continue
			}
			found = true
			if keep {
				edits = append(edits, draft.Keep(c))
			}
		}
		if !found {
			return fmt.Errorf("%w: nothing else has changed %s %s since the draft %q did", ErrConflict, kind, entry, x.Name)
		}
		draft.Sort(edits)
		x.Draft.Edits = edits
		if len(x.Conflicts) == 1 {
			x.Draft.Base = x.Live.Head.Revision
		}
		x.reopen("it was edited after it was weighed")
		return nil
	})
}

// DropDraft gives a draft up.
func (s *Service) DropDraft(ctx context.Context, who, why, id string) error {
	_, err := s.onDraft(ctx, who, why, id, "", func(x *DraftNow, _ *store.Tx) error {
		x.Draft.State, x.Draft.Weighed = DraftDropped, nil
		return nil
	})
	return err
}

// WithdrawDraft opens a draft that waits or is set.
func (s *Service) WithdrawDraft(ctx context.Context, who, why, id string) (*DraftNow, error) {
	return s.onDraft(ctx, who, why, id, "", func(x *DraftNow, _ *store.Tx) error {
		if x.State == DraftOpen {
			return fmt.Errorf("%w: the draft %q waits for nothing", ErrConflict, x.Name)
		}
		x.reopen("")
		return nil
	})
}

// Publish publishes a draft, at once or where at is set at that moment. digest is that
// of what was weighed; something else is refused. Where somebody else must confirm, it
// waits for them.
func (s *Service) Publish(ctx context.Context, who, why, id, digest string, at moment.Moment) (*DraftNow, error) {
	if strings.TrimSpace(why) == "" {
		return nil, &Invalid{"why", why, "publishing has a reason"}
	}
	if at.IsSet() && at <= s.Now() {
		return nil, &Invalid{"at", at.String(), "a moment to publish at lies ahead; leave it away to publish at once"}
	}
	return s.onDraft(ctx, who, why, id, "", func(x *DraftNow, t *store.Tx) error {
		switch {
		case len(x.Conflicts) > 0:
			return x.conflicting()
		case len(x.Clean)+len(x.Releases) == 0:
			return fmt.Errorf("%w: the draft %q changes nothing", ErrConflict, x.Name)
		case x.State != DraftOpen:
			return fmt.Errorf("%w: the draft %q is %s already", ErrConflict, x.Name, x.State)
		case digest != x.Digest:
			return fmt.Errorf("%w: what would be published is not what was weighed; look at its impact again", ErrStale)
		}
		d := x.Draft
		d.Edits, d.Base, d.Note = x.Clean, x.Live.Head.Revision, ""
		d.Weighed = &Weighing{By: who, At: s.Now().String(), Why: why, Digest: digest, Revision: x.Live.Head.Revision}
		if at.IsSet() {
			d.Weighed.PublishAt = at.String()
		}
		if err := s.publishable(ctx, x); err != nil {
			return err
		}
		switch {
		case x.Second:
			d.State = DraftWaiting
			return nil
		case at.IsSet():
			d.State = DraftSet
			return nil
		}
		return s.write(x, t)
	})
}

// errAnew is why a confirmation does not count.
var errAnew = "since it was weighed, something has changed; it is to be weighed and confirmed anew"

// Confirm publishes a draft that waits, exactly as it was weighed; who must be somebody
// else than who asked. Where anything has changed since, the draft is open again and
// ErrStale is returned.
func (s *Service) Confirm(ctx context.Context, who, id, digest string) (*DraftNow, error) {
	stale := false
	x, err := s.onDraft(ctx, who, "", id, "", func(x *DraftNow, t *store.Tx) error {
		d := x.Draft
		switch {
		case x.State != DraftWaiting:
			return fmt.Errorf("%w: the draft %q waits for nobody", ErrConflict, x.Name)
		case d.Weighed.By == who:
			return fmt.Errorf("%w: %s asked for it; somebody else confirms", ErrSecond, who)
		}
		if len(x.Conflicts) > 0 || x.Digest != d.Weighed.Digest || digest != d.Weighed.Digest {
			stale = true
			d.reopen(errAnew)
			return nil
		}
		d.Weighed.ConfirmedBy = who
		if d.Weighed.PublishAt != "" {
			if d.publishAt() > s.Now() {
				d.State = DraftSet
				return nil
			}
		}
		return s.write(x, t)
	})
	if err == nil && stale {
		err = fmt.Errorf("%w: %s", ErrStale, errAnew)
	}
	return x, err
}

// ErrSecond is returned where somebody else must confirm.
var ErrSecond = errors.New("somebody else must confirm")

// publishable refuses a policy that a file could not give: what names something that
// is not there, or two that claim the same.
func (s *Service) publishable(ctx context.Context, x *DraftNow) error {
	edits := x.Clean
	if gone := lost(x.Live.Policy(), x.After.Policy()); gone != "" { // what stays may name it
		edits = nil
		for k, doc := range worldfile.DocsOf(x.After.Policy()) {
			edits = append(edits, draft.Edit{Kind: k.Kind, ID: k.ID, Now: doc})
		}
		for _, kind := range []string{"space", "letter"} {
			text := `"partner:` + gone + `"`
			if kind == "letter" {
				text = `"partner":"` + gone + `"`
			}
			if err := s.store.Naming(ctx, kind, text, func(id string, _ []byte) error {
				return fmt.Errorf("%w: the %s %q names the partner %q, which would go; change it first, or undo that edit", ErrConflict, kind, id, gone)
			}); err != nil {
				return err
			}
		}
	}
	return fieldError("draft", x.Name, worldfile.CheckPolicy(edits, worldfile.Options{Now: s.Now(), Known: x.After}))
}

// write writes a draft's policy as a new revision.
func (s *Service) write(x *DraftNow, t *store.Tx) error {
	d := x.Draft
	if err := s.publishable(t.Context(), x); err != nil {
		return err
	}
	if err := notOver(x.Live.Policy(), x.After.Policy(), s.Now()); err != nil {
		return err
	}
	if err := s.writeNext(x.Live, x.After.Policy(), t, d.Weighed.Why); err != nil {
		return err
	}
	if err := release(t, d.Releases); err != nil {
		return err
	}
	d.Edits = draft.Diff(s.docs(x.Live), worldfile.DocsOf(x.After.Policy()), x.Clean, d.Weighed.By, s.Now().String(), "")
	d.State, d.Published, d.Base = DraftPublished, t.Head().Revision, x.Live.Head.Revision
	return nil
}

func (s *Service) writeNext(live *State, next *world.World, t *store.Tx, why string) error {
	t.Because(why)
	if err := s.actForward(live, next, t); err != nil {
		return err
	}
	count := map[string]int{}
	if err := writePolicy(t, live.Policy(), next, count); err != nil {
		return err
	}
	return holdBack(t, live.Policy(), next, count)
}

// quick publishes one change at once, as a draft of its own.
func (s *Service) quick(ctx context.Context, who, why string, make func(*State) (*world.World, error)) error {
	return s.changeLong(ctx, who, why, func(now *State, t *store.Tx) error {
		next, err := make(now)
		if err != nil {
			return err
		}
		return s.quickly(now, next, who, why, t)
	})
}

func (s *Service) quickly(now *State, next *world.World, who, why string, t *store.Tx) error {
	edits := []draft.Edit{}
	if next != now.Policy() {
		edits = draft.Diff(s.docs(now), worldfile.DocsOf(next), nil, who, s.Now().String(), why)
	}
	if len(edits) == 0 {
		return nil
	}
	if loosens := draft.Loosens(now.Policy(), next); needsSecond(now.Policy(), loosens) {
		what := "every change"
		if len(loosens) > 0 {
			what = "this loosens " + loosens[0]
		}
		return fmt.Errorf("%w: %s; make the change in a draft, publish it, and have it confirmed", ErrSecond, what)
	}
	d := s.newDraft(t, now, who, draft.Titles(edits))
	d.Quick, d.Edits = true, edits
	d.Weighed = &Weighing{By: who, At: s.Now().String(), Why: why, Digest: digestOf(now.Head.Revision, edits, nil), Revision: now.Head.Revision}
	if err := s.writeNext(now, next, t, why); err != nil {
		return err
	}
	if t.Head().Revision == now.Head.Revision {
		return nil
	}
	d.State, d.Published = DraftPublished, t.Head().Revision
	return s.putDraft(t, d)
}

// publishDue publishes the drafts whose moment has come, in the order of their
// moments. One that can no longer be published as it was weighed is open again.
func (s *Service) publishDue(ctx context.Context) error {
	for {
		due, err := s.setBefore(ctx, s.Now())
		if err != nil || len(due) == 0 {
			return err
		}
		d := &due[0]
		err = s.change(ctx, d.Weighed.By, d.Weighed.Why, func(now *State, t *store.Tx) error {
			doc, err := t.Record("draft", d.ID)
			if err != nil || doc == nil {
				return err
			}
			d, err := draftOf(doc)
			if err != nil || d.State != DraftSet {
				return err // another service was first
			}
			x, err := s.stand(d, now)
			if err != nil {
				return err
			}
			if len(x.Conflicts) > 0 || digestOf(0, x.Clean, nil) != digestOf(0, d.Edits, nil) {
				d.reopen("at its moment it was no longer what had been weighed; " + errAnew)
				return s.putDraft(t, d)
			}
			if err := s.write(x, t); err != nil {
				if ctx.Err() != nil || !refusal(err) {
					return err
				}
				d.reopen("at its moment it could not be published: " + err.Error())
			}
			return s.putDraft(t, d)
		})
		if err != nil {
			return err
		}
	}
}

// refusal reports whether an error says that something cannot be, not that it failed.
func refusal(err error) bool {
	var invalid *Invalid
	return errors.As(err, &invalid) || errors.Is(err, ErrConflict)
}

// setBefore lists drafts that are set to publish up to a moment, in that order.
func (s *Service) setBefore(ctx context.Context, until moment.Moment) ([]Draft, error) {
	head := s.State().Head.Seq
	s.sets.Lock()
	defer s.sets.Unlock()
	if !s.sets.known || s.sets.seq != head {
		var err error
		if s.sets.list, err = s.draftsIn(ctx, DraftSet); err != nil {
			return nil, err
		}
		sort.SliceStable(s.sets.list, func(i, j int) bool { return s.sets.list[i].publishAt() < s.sets.list[j].publishAt() })
		s.sets.known, s.sets.seq = true, head
	}
	var out []Draft
	for _, d := range s.sets.list {
		if d.publishAt() <= until {
			out = append(out, d)
		}
	}
	return out, nil
}

// ahead returns a state as drafts that are set to publish up to a moment will leave it.
func (s *Service) ahead(ctx context.Context, now *State, at moment.Moment, except string) (*State, error) {
	due, err := s.setBefore(ctx, at)
	if err != nil {
		return nil, err
	}
	st := now
	for i := range due {
		if due[i].ID == except {
			continue
		}
		x, err := s.stand(&due[i], st)
		if err != nil {
			return nil, err
		}
		if x.After != nil && digestOf(0, x.Clean, nil) == digestOf(0, due[i].Edits, nil) {
			st = x.After
		}
	}
	return st, nil
}

// HeldChange is a value that becomes held back, or is released.
type HeldChange struct {
	Where, Rule, Value string
	Held               bool // becomes held back; else released
}

// Between is the states that an impact lies between.
type Between struct{ Before, After *State }

// Impact weighs a draft at a moment: who gains and who loses what. line and progress
// are as in engine.ImpactOf.
func (s *Service) Impact(ctx context.Context, id string, at moment.Moment, line func(*engine.ImpactLine) bool, progress func(float64)) (*DraftNow, *Between, *engine.Impact, error) {
	x, err := s.Draft(ctx, id)
	if err != nil {
		return nil, nil, nil, err
	}
	if x.Over() {
		return nil, nil, nil, fmt.Errorf("%w: the draft %q is %s; a revision shows what it changed", ErrConflict, x.Name, x.published())
	}
	if len(x.Conflicts) > 0 {
		return nil, nil, nil, x.conflicting()
	}
	before, err := s.ahead(ctx, x.Live, at, x.ID)
	if err != nil {
		return nil, nil, nil, err
	}
	after := x.After
	if before != x.Live || at <= s.Now() { // from when it is published its dates go on: that is now, and not when somebody last looked
		y, err := s.standAt(x.Draft, before, min(at, s.Now()))
		if err != nil {
			return nil, nil, nil, err
		}
		if y.After == nil {
			return nil, nil, nil, y.conflicting()
		}
		after = y.After
	}
	imp, err := engine.ImpactOf(before.Snapshot, after.Snapshot, at, line, ctx.Err, progress)
	return x, &Between{before, after}, imp, err
}

// Held lists the values that publishing would hold back, or release.
func (s *Service) Held(ctx context.Context, x *DraftNow, limit int) ([]HeldChange, int, error) {
	out, total := []HeldChange{}, 0
	add := func(h HeldChange) {
		if total++; len(out) < limit {
			out = append(out, h)
		}
	}
	if x.After == nil {
		return out, 0, nil
	}
	compare := func(where string, was, will []world.Setting) {
		held := map[catalogue.RuleID]bool{}
		for _, v := range was {
			held[v.Rule] = v.Held
		}
		for _, v := range will {
			if h, had := held[v.Rule]; had && h != v.Held {
				add(HeldChange{where, v.Rule.String(), v.Rule.Get().Scale.Format(v.Value), v.Held})
			}
		}
	}
	for i := range x.After.Policy().Partners {
		p := &x.After.Policy().Partners[i]
		if old, err := x.Live.Partner(p.ID); err == nil {
			compare("partner:"+p.ID, old.Rules, p.Rules)
		}
	}
	for i := range x.After.Policy().Exceptions {
		e := &x.After.Policy().Exceptions[i]
		if old, _, err := x.Live.Exception(e.ID); err == nil {
			compare("exception "+e.ID, old.Rules, e.Rules)
		}
	}
	limits := world.Limits(x.After.Policy(), &world.World{})
	before := world.Limits(x.Live.Policy(), &world.World{})
	lowered := false
	for r := range limits {
		lowered = lowered || catalogue.RuleID(r).Get().Scale.Looser(before[r], limits[r])
	}
	if lowered {
		if err := s.store.WithRules(ctx, func(where string, rules []world.Setting) {
			compare(where, rules, world.HoldBack(rules, limits))
		}); err != nil {
			return nil, 0, err
		}
	}
	for _, r := range x.Releases {
		add(HeldChange{r.Where, r.Rule, r.Value, false})
	}
	return out, total, nil
}

// CutOff is a guest whom other days suspend or remove at once.
type CutOff struct {
	Address addr.Address
	Name    string
	At      moment.Moment // when it would have happened, by the draft's days
	Cause   dated.Cause
	Was     moment.Moment // when it will happen as things are; Never for not
}

// CutOffs lists the guests whom a draft's days would suspend or remove at a moment at
// which they are not yet as things are. It reads no guest where no such rule differs.
func (s *Service) CutOffs(ctx context.Context, before, after *State, at moment.Moment, limit int) ([]CutOff, int, error) {
	out, total := []CutOff{}, 0
	engine.Ousted(before.Snapshot, after.Snapshot, at, func(i uint32, cause dated.Cause, was moment.Moment) {
		name, _, _ := after.RecordOf(i)
		total++
		out = append(out, CutOff{after.AddressAt(i), name, at, cause, was})
	})
	sort.Slice(out, func(i, j int) bool { return out[i].Address.String() < out[j].Address.String() })
	return out[:min(len(out), limit)], total, ctx.Err()
}

// Revision is one published state of policy, with the draft that it came from.
type Revision struct {
	store.Revision
	Draft *Draft
}

// Revisions lists revisions before one, the newest first; 0 for all.
func (s *Service) Revisions(ctx context.Context, before uint64, limit int) ([]Revision, error) {
	list, err := s.store.Revisions(ctx, before, limit)
	if err != nil {
		return nil, err
	}
	drafts, err := s.Drafts(ctx, true)
	if err != nil {
		return nil, err
	}
	by := map[uint64]*Draft{}
	for i := range drafts {
		if drafts[i].State == DraftPublished {
			by[drafts[i].Published] = &drafts[i]
		}
	}
	out := make([]Revision, len(list))
	for i := range list {
		out[i] = Revision{list[i], by[list[i].Number]}
	}
	return out, nil
}

// RevisionDiff returns what two revisions of policy differ in; 0 is the state before
// the first.
func (s *Service) RevisionDiff(ctx context.Context, from, to uint64) ([]draft.Edit, error) {
	last := s.State().Head.Revision
	docs := func(n uint64) (draft.Docs, error) {
		if n > last {
			return nil, fmt.Errorf("%w: there is no revision %d; the last is %d", ErrNotFound, n, last)
		}
		return s.store.PolicyDocs(ctx, n)
	}
	b, err := docs(to)
	if err != nil {
		return nil, err
	}
	a, err := docs(from)
	if err != nil {
		return nil, err
	}
	return draft.Diff(a, b, nil, "", "", ""), nil
}

// BackTo makes a draft that takes policy back to a revision; its edits say what it
// would undo. Values that publishing since held back are released.
func (s *Service) BackTo(ctx context.Context, who, why string, number uint64) (*Draft, error) {
	var d *Draft
	err := s.change(ctx, who, why, func(now *State, t *store.Tx) error {
		if number == 0 || number >= now.Head.Revision {
			return &Invalid{"revision", fmt.Sprint(number), fmt.Sprintf("one can go back to an earlier revision than %d, the one in force", now.Head.Revision)}
		}
		docs, err := s.store.PolicyDocs(ctx, number)
		if err != nil {
			return err
		}
		name := fmt.Sprintf("Back to revision %d", number)
		if err := s.free(ctx, name); err != nil {
			return err
		}
		d = s.newDraft(t, now, who, name)
		d.Back = number
		d.Edits = draft.Diff(s.docs(now), docs, nil, who, s.Now().String(), why)
		if d.Releases, err = s.heldSince(ctx, t, number); err != nil {
			return err
		}
		if len(d.Edits)+len(d.Releases) == 0 {
			return fmt.Errorf("%w: the policy in force is that of revision %d", ErrConflict, number)
		}
		return s.putDraft(t, d)
	})
	return d, err
}

// heldSince finds values of spaces, items and meetings that publishing since a revision
// held back, and that still are.
func (s *Service) heldSince(ctx context.Context, t *store.Tx, number uint64) ([]Release, error) {
	out := []Release{}
	seen := map[string]bool{}
	err := s.store.Published(ctx, number, func(e *store.Entry) error {
		was, err := rulesOf(e.Kind, e.Was)
		if err != nil {
			return err
		}
		now, err := rulesOf(e.Kind, e.Now)
		if err != nil {
			return err
		}
		held := map[catalogue.RuleID]world.Setting{}
		for _, v := range was {
			held[v.Rule] = v
		}
		where := placeOf(e)
		for _, v := range now {
			old, had := held[v.Rule]
			key := where + " " + v.Rule.String()
			if !had || old.Held || !v.Held || old.Value != v.Value || seen[key] {
				continue
			}
			seen[key] = true
			w, err := ParseWhere(where)
			if err != nil {
				return err
			}
			still := false
			if err := onRules(t, w, func(rules []world.Setting, _ []byte) ([]world.Setting, bool, error) {
				for _, x := range rules {
					still = still || x.Rule == v.Rule && x.Held && x.Value == v.Value
				}
				return nil, false, nil
			}); err != nil && !errors.Is(err, ErrNotFound) {
				return err
			}
			if still {
				out = append(out, Release{where, v.Rule.String(), v.Rule.Get().Scale.Format(v.Value)})
			}
		}
		return nil
	})
	sort.Slice(out, func(i, j int) bool { return out[i].Where+" "+out[i].Rule < out[j].Where+" "+out[j].Rule })
	return out, err
}

func rulesOf(kind string, doc []byte) ([]world.Setting, error) {
	if doc == nil {
		return nil, nil
	}
	switch kind {
	case "space":
		x, err := worldfile.SpaceOf(doc)
		return x.Rules, err
	case "meeting":
		x, err := worldfile.MeetingOf(doc)
		return x.Rules, err
	}
	x, err := worldfile.ItemOf(doc)
	return x.Rules, err
}

func placeOf(e *store.Entry) string {
	if e.Kind != "item" {
		return e.Kind + ":" + e.ID
	}
	doc := e.Now
	if doc == nil {
		doc = e.Was
	}
	x, err := worldfile.ItemOf(doc)
	if err != nil {
		return "file:" + e.ID
	}
	return x.Kind.String() + ":" + e.ID
}

// release makes values count again that publishing had held back, where they still are.
func release(t *store.Tx, list []Release) error {
	for _, r := range list {
		w, err := ParseWhere(r.Where)
		if err != nil {
			return err
		}
		rule, err := FindRule(r.Rule)
		if err != nil {
			return err
		}
		err = onRules(t, w, func(rules []world.Setting, _ []byte) ([]world.Setting, bool, error) {
			out := append([]world.Setting(nil), rules...)
			changed := false
			for i := range out {
				if x := &out[i]; x.Rule == rule.ID && x.Held && rule.Scale.Format(x.Value) == r.Value {
					x.Held, changed = false, true
				}
			}
			return out, changed, nil
		})
		if err != nil && !errors.Is(err, ErrNotFound) { // a space that is gone has nothing to release
			return err
		}
	}
	return nil
}
