package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/event"
	"wexillum.example/internal/store"
)

// mostTold is up to how many findings that came or went at once stand in the journal one by one.
const mostTold = 200

// noticedAtOnce is up to how many findings that were there at first are written in one transaction.
const noticedAtOnce = 1000

// RunFindings looks what is noticed whenever something changed, and keeps when each finding came and went, until the context
// ends. Several services may do it at once.
func (s *Service) RunFindings(ctx context.Context, every time.Duration) {
	var kept time.Time // when what was kept was found
	var done time.Time
	s.repeat(ctx, every, "findings cannot be kept", "findings are kept again", func() error {
		s.notice.Lock()
		n := s.noticed
		s.notice.Unlock()
		if n != nil && time.Since(n.done) < rests*n.took { // a large world is not looked at all the time
			return nil
		}
		list, err := s.Findings(ctx)
		if err != nil {
			return err
		}
		if _, known := s.odd(ctx, s.State(), s.Now(), 0); !known { // what is not known yet is not gone
			return nil
		}
		s.notice.Lock()
		found := s.noticed.done
		s.notice.Unlock()
		if found.Equal(kept) && time.Since(done) < time.Minute { // what systems show changes by itself
			return nil
		}
		if err := s.KeepNoticed(ctx, list); err != nil {
			return err
		}
		kept, done = found, time.Now()
		return nil
	})
}

// NoticedPast is what was kept of a finding.
type NoticedPast = store.NoticedOnce

// KeepNoticed keeps which findings came and which went.
func (s *Service) KeepNoticed(ctx context.Context, list *Noticed) error {
	s.keepingNoticed.Lock()
	defer s.keepingNoticed.Unlock()
	first := false            // nobody ever looked
	if s.keptNoticed == nil { // what others keep meanwhile is found where it is written
		kept, err := s.store.NoticedNow(ctx)
		if err != nil {
			return err
		}
		s.keptNoticed = map[string]bool{}
		for id := range kept {
			s.keptNoticed[id] = true
		}
		first = len(kept) == 0
	}
	now := s.Now()
	var came []store.NoticedOnce
	there := make(map[string]bool, len(s.keptNoticed))
	for f := range list.All() {
		if there[f.ID] = true; !s.keptNoticed[f.ID] {
			came = append(came, store.NoticedOnce{Finding: f.ID, Kind: f.Kind, About: f.About, Cause: f.Cause, Came: now})
		}
	}
	var gone []string
	for id := range s.keptNoticed {
		if !there[id] {
			gone = append(gone, id)
		}
	}
	var err error
	for first && len(came) > noticedAtOnce && err == nil { // nobody waits long for it to be written
		err = s.writeNoticed(ctx, first, now, came[:noticedAtOnce], nil)
		came = came[noticedAtOnce:]
	}
	if err == nil {
		err = s.writeNoticed(ctx, first, now, came, gone)
	}
	if s.keptNoticed = there; err != nil {
		s.keptNoticed = nil
	}
	return err
}

// writeNoticed writes which findings came and which went, as far as no other service did.
func (s *Service) writeNoticed(ctx context.Context, first bool, now moment.Moment, came []store.NoticedOnce, gone []string) error {
	if len(came)+len(gone) == 0 {
		return nil
	}
	slices.Sort(gone)
	return s.change(ctx, Scheduler, "looked around", func(_ *State, t *store.Tx) error {
		again, err := s.store.NoticedOf(ctx, slices.Concat(idsOf(came), gone)) // another service may have been first
		if err != nil {
			return err
		}
		came = slices.DeleteFunc(came, func(x store.NoticedOnce) bool { return again[x.Finding].Finding != "" })
		gone = slices.DeleteFunc(gone, func(id string) bool { return again[id].Finding == "" })
		if len(came)+len(gone) == 0 {
			return nil
		}
		if err := t.Notice(came); err != nil {
			return err
		}
		if err := t.NoticeGone(gone, now); err != nil {
			return err
		}
		doc := func(x *store.NoticedOnce) []byte {
			text, _ := json.Marshal(map[string]any{"kind": x.Kind, "about": x.About, "cause": x.Cause})
			return text
		}
		switch {
		case first: // what was there when somebody first looked is no news
			return nil
		case len(came)+len(gone) > mostTold:
			_, err := t.Note(event.Noticed, "many", nil, []byte(fmt.Sprintf(`{"came":%d,"gone":%d}`, len(came), len(gone))))
			return err
		}
		for i := range came {
			if _, err := t.Note(event.Noticed, came[i].Finding[:min(len(came[i].Finding), 200)], nil, doc(&came[i])); err != nil {
				return err
			}
		}
		for _, id := range gone {
			x := again[id]
			if _, err := t.Note(event.Noticed, id[:min(len(id), 200)], doc(&x), nil); err != nil {
				return err
			}
		}
		return nil
	})
}

func idsOf(list []store.NoticedOnce) (out []string) {
	for i := range list {
		out = append(out, list[i].Finding)
	}
	return
}

// NoticedSince says since when findings are there, by their ids, as far as that was kept.
func (s *Service) NoticedSince(ctx context.Context, ids []string) (map[string]moment.Moment, error) {
	return s.store.NoticedSince(ctx, ids)
}

// FindingsGone lists findings that are gone, the last first.
func (s *Service) FindingsGone(ctx context.Context, kind string, limit int) ([]NoticedPast, error) {
	return s.store.NoticedBefore(ctx, kind, moment.Never, limit)
}

// How long a limit is looser than needed before that is said by itself, and how often within that time a setting is changed.
const (
	looseDays = 90
	oftenIs   = 3
)

// findingsOfThePast are those that need what was kept of others.
func (s *Service) findingsOfThePast(ctx context.Context, now moment.Moment) (out []finding.Finding, err error) {
	since := now - looseDays*86400e6
	loose, err := s.store.NoticedLong(ctx, "limit_loose", since)
	if err != nil {
		return nil, err
	}
	for _, x := range loose {
		out = append(out, finding.Finding{ID: "limit_loose_long " + strings.TrimPrefix(x.Finding, "limit_loose "), Kind: "limit_loose_long",
			About: x.About,
			Cause: fmt.Sprintf("%s That has been so since %s.", x.Cause, moment.DayOf(x.Came, s.State().Zone()))})
	}
	often, err := s.store.NoticedOften(ctx, "system_changed", since, oftenIs)
	for _, x := range often {
		out = append(out, finding.Finding{ID: "system_changed_again " + strings.TrimPrefix(x.Finding, "system_changed "),
			Kind: "system_changed_again", About: x.About,
			Cause: fmt.Sprintf("Within %d days it was changed there %d times, last on %s.", looseDays, x.Times,
				moment.DayOf(x.Came, s.State().Zone()))})
	}
	refused, err2 := s.refusalFindings(ctx, now)
	return append(out, refused...), errors.Join(err, err2)
}
