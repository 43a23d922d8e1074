package service

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"strings"

	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Publish publishes a draft, at once or where at is set at that moment. digest is that
// of what was weighed; something else is refused. Where somebody else must confirm, it
// waits for them.
func (s *Service) Publish(ctx context.Context, who, why, id, digest string, at moment.Moment) (*DraftNow, error) {
	return s.PublishDespite(ctx, who, why, "", id, digest, at)
}

// PublishDespite is Publish, for a draft that breaks what is expected, too: despite says why it is published all the same.
func (s *Service) PublishDespite(ctx context.Context, who, why, despite, id, digest string, at moment.Moment) (*DraftNow, error) {
	if strings.TrimSpace(why) == "" {
		return nil, &Invalid{"why", why, "publishing has a reason"}
	}
	if at.IsSet() && at <= s.Now() {
		return nil, &Invalid{"at", at.String(), "a moment to publish at lies ahead; leave it away to publish at once"}
	}
	// judged before anybody has to wait
	if now, err := s.Draft(ctx, id); err == nil && now.After != nil && now.State == DraftOpen && now.Digest == digest {
		breaks, err := s.Breaks(ctx, now.Live, now.After)
		switch {
		case err != nil:
			return nil, err
		case len(breaks) > 0 && strings.TrimSpace(despite) == "":
			return nil, &Breaking{breaks, now.Live.Zone()}
		case len(breaks) > 0:
			why += " (published all the same, though it breaks " + named(breaks, now.Live.Zone()) + ": " + strings.TrimSpace(despite) + ")"
		}
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
	// Whom its days let go at once, the impact said to whoever published it.
	_, n, err := s.CutOffs(t.Context(), x.Live, x.After, s.Now(), 0)
	if err != nil {
		return err
	}
	return noteLetGo(t, n)
}

func (s *Service) writeNext(live *State, next *world.World, t *store.Tx, why string) error {
	if err := keepsBundles(live, next); err != nil {
		return err
	}
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
	breaks, err := s.Breaks(t.Context(), now, now.With(next, s.Now()))
	if err != nil {
		return err
	}
	if len(breaks) > 0 {
		return fmt.Errorf("%w; make the change in a draft, and publish it with a reason for that", &Breaking{breaks, now.Zone()})
	}
	d := s.newDraft(t, now, who, draft.Titles(edits))
	d.Quick, d.Edits = true, edits
	d.Weighed = &Weighing{
		By:       who,
		At:       s.Now().String(),
		Why:      why,
		Digest:   digestOf(now.Head.Revision, edits, nil),
		Revision: now.Head.Revision,
	}
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
