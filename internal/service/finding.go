package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
)

// Noticed is a finding, and who accepted it, if somebody did.
type Noticed struct {
	finding.Finding
	Accepted *finding.Accepted
}

// noticed is what was found at one head on one day.
type noticed struct {
	head store.Head
	day  moment.Day
	all  []finding.Finding
}

// Findings lists what is noticed now, each with the acceptance that is in force.
// Finding everything reads the whole inventory; it is done once for a state.
func (s *Service) Findings(ctx context.Context) ([]Noticed, error) {
	s.notice.Lock()
	defer s.notice.Unlock()
	st, now := s.State(), s.Now()
	day := moment.DayOf(now, st.Zone())
	if n := s.noticed; n == nil || n.head != st.Head || n.day != day {
		w, unread, err := s.WorldAndUnread(ctx, st.Head)
		if err != nil {
			return nil, err
		}
		all := finding.Find(w, st.Snapshot, now)
		for _, u := range unread {
			all = append(
				all,
				finding.Finding{
					ID:    "record_unread " + u.Kind + ":" + u.ID,
					Kind:  "record_unread",
					About: []string{u.Kind + ":" + u.ID},
					Cause: u.Text(),
				},
			)
		}
		s.noticed = &noticed{st.Head, day, all}
	}
	all := s.noticed.all
	systems, err := s.systemFindings(ctx, now) // readings are in no journal
	if err != nil {
		return nil, err
	}
	all = append(all[:len(all):len(all)], systems...)
	accepted := map[string]*finding.Accepted{}
	err = s.store.Records(ctx, "acceptance", "", func(_ string, doc []byte) error {
		var d acceptance
		if err := json.Unmarshal(doc, &d); err != nil {
			return err
		}
		since, err := moment.Parse(d.Since)
		if err != nil {
			return err
		}
		until, err := moment.Parse(d.Until)
		if err == nil && now < until {
			accepted[d.ID] = &finding.Accepted{ID: d.ID, By: d.By, Reason: d.Reason, Since: since, Until: until}
		}
		return err
	})
	out := make([]Noticed, len(all))
	for i, f := range all {
		out[i] = Noticed{f, accepted[f.ID]}
	}
	return out, err
}

// acceptance is how an accepted finding is kept.
type acceptance struct {
	ID     string `json:"id"`
	By     string `json:"by"`
	Reason string `json:"reason"`
	Since  string `json:"since"`
	Until  string `json:"until"`
}

// key of an acceptance: a finding's id may be longer than a key can be.
func acceptanceKey(id string) string {
	sum := sha256.Sum256([]byte(id))
	return hex.EncodeToString(sum[:16])
}

// AcceptFinding lets a finding be until a day or moment, with a reason.
func (s *Service) AcceptFinding(ctx context.Context, who, id, reason, until string) error {
	if strings.TrimSpace(reason) == "" {
		return &Invalid{"reason", reason, "say why it may stay as it is"}
	}
	all, err := s.Findings(ctx)
	if err != nil {
		return err
	}
	found := false
	for _, f := range all {
		found = found || f.ID == id
	}
	if !found {
		return fmt.Errorf("%w: there is no such finding; perhaps it has been mended", ErrNotFound)
	}
	end, err := endOf(until, s.Now(), s.State())
	if err != nil {
		return err
	}
	if end <= s.Now() || end == moment.Never {
		return &Invalid{"until", until, "an acceptance has an end, in the future"}
	}
	doc, err := json.Marshal(acceptance{id, who, reason, s.Now().String(), end.String()})
	if err != nil {
		return err
	}
	return s.change(ctx, who, reason, func(_ *State, t *store.Tx) error {
		_, err := t.PutRecord("acceptance", acceptanceKey(id), doc)
		return err
	})
}

// ReopenFinding takes an acceptance back.
func (s *Service) ReopenFinding(ctx context.Context, who, why, id string) error {
	return s.change(ctx, who, why, func(_ *State, t *store.Tx) error {
		ok, err := t.EndRecord("acceptance", acceptanceKey(id))
		if err == nil && !ok {
			err = fmt.Errorf("%w: this finding is not accepted", ErrNotFound)
		}
		return err
	})
}
