package service

import (
	"context"
	"encoding/json"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// TermsVersion is one version of the terms of use that guests accept.
type TermsVersion struct {
	From     time.Time // zero for the first
	Who, Why string
	Revision uint64
	// Texts in English and in Portuguese; empty for those that come with the product, and in
	// Portuguese for what the English says.
	Text, TextPt string
	Again        bool // everybody was asked to accept them anew
	// Accepted counts the records that there are whose last acceptance falls into the time of this
	// version; Owed, of the version in force, those that still have to accept it.
	Accepted, Owed int
}

type termsDoc struct {
	Terms      string `json:"terms"`
	TermsPt    string `json:"terms_pt"`
	TermsSince string `json:"terms_since"`
}

// TermsVersions lists the versions of the terms of use, the newest first, and how many accepted which.
func (s *Service) TermsVersions(ctx context.Context) ([]TermsVersion, error) {
	st := s.State()
	entries, err := s.store.Journal(ctx, store.JournalQuery{Kind: "settings", Limit: 10000})
	if err != nil {
		return nil, err
	}
	read := func(doc []byte) (d termsDoc, err error) {
		if doc != nil {
			err = json.Unmarshal(doc, &d)
		}
		return
	}
	list := []TermsVersion{}
	for i, e := range entries {
		was, err := read(e.Was)
		if err != nil {
			return nil, err
		}
		now, err := read(e.Now)
		if err != nil {
			return nil, err
		}
		if was != now {
			list = append(list, TermsVersion{
				From: e.At, Who: e.Who, Why: e.Why, Revision: e.Revision,
				Text: now.Terms, TextPt: now.TermsPt, Again: was.TermsSince != now.TermsSince,
			})
		}
		if i == len(entries)-1 {
			list = append(list, TermsVersion{Text: was.Terms, TextPt: was.TermsPt})
		}
	}
	if len(list) == 0 {
		list = append(list, TermsVersion{})
	}
	at := s.Now()
	for i := range st.Parties() {
		g, ok := st.Record(i)
		if !ok {
			continue
		}
		if g.State == world.StateActive && st.TermsOwed(&g, at) {
			list[0].Owed++
		}
		if g.Terms == moment.Never {
			continue
		}
		for i := range list {
			if list[i].From.IsZero() || g.Terms >= moment.Of(list[i].From) {
				list[i].Accepted++
				break
			}
		}
	}
	return list, ctx.Err()
}
