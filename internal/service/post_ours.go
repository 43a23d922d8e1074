package service

import (
	"cmp"
	"context"
	"encoding/json"
	"net/url"
	"sort"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/phrase"
	"wexillum.example/internal/store"
)

// composeOurs writes a message to a person of ours.
func (s *Service) composeOurs(ctx context.Context, m *store.Message, data map[string]string, c *mail.Content) (*mail.Message, error) {
	st := s.State()
	a, err := addr.Parse(m.Recipient)
	if err != nil {
		return nil, err
	}
	language := Languages[0]
	if p, err := s.Person(ctx, st.PersonAt(a)); err == nil {
		c.Name, language = p.Name, phrase.Of(p.Language)
	}
	c.Link = s.address("/mine")
	if m.Kind == "offer" {
		doc, err := s.store.Record(ctx, "offer", data["offer"])
		if err != nil || doc == nil {
			return nil, err
		}
		var o Offer
		if err := json.Unmarshal(doc, &o); err != nil || o.State != "open" {
			return nil, err
		}
		c.By = o.From
		if p, err := s.Person(ctx, o.From); err == nil && p.Name != "" {
			c.By = p.Name
		}
		c.What = []string{countWords[language](o.Guests, o.Grants)}
		msg, err := mail.Compose(m.Kind, language, c)
		return &msg, err
	}
	if m.Kind == "arrived" {
		g, own, err := s.Guest(ctx, data["guest"])
		if err != nil || g == nil {
			return nil, dropIfGone(err)
		}
		c.Guest, c.Purpose, c.Link = cmp.Or(g.Name, g.Address.String()), g.Purpose, s.address("/guests/"+url.PathEscape(g.Address.String()))
		for i := range own {
			if x := &own[i]; x.Until > s.Now() {
				c.What = append(c.What, st.NameOf(x.Resource)+": "+roleWords[language][x.Role])
				c.Until = dayWords(x.Until, st, language)
			}
		}
		msg, err := mail.Compose(m.Kind, language, c)
		return &msg, err
	}
	if m.Kind == "deputy" {
		return s.composeDeputy(ctx, language, data["person"], data["deputy"], c)
	}
	if m.Kind == "feed" {
		return s.composeFeed(ctx, language, data["partner"], c)
	}
	if m.Kind == "review" {
		return s.composeReview(ctx, language, data["round"], data["person"], c)
	}
	if m.Kind == "expectation" {
		x, err := st.Expectation(data["expectation"])
		if err != nil {
			return nil, nil // nobody expects it any longer
		}
		c.What, c.Text, c.Purpose = strings.Split(data["told"], "\n"), expect.Says(st.Snapshot, x), x.Why
		c.Link = s.address("/expectations/" + url.PathEscape(x.ID))
		msg, err := mail.Compose(m.Kind, language, c)
		return &msg, err
	}
	if m.Kind == "works" || m.Kind == "answered" || m.Kind == "sign_up" || m.Kind == "bundle_asked" {
		return s.composeRequest(ctx, m.Kind, language, data["request"], c)
	}
	var d digest
	if err := json.Unmarshal(m.Doc, &d); err != nil {
		return nil, err
	}
	q := st.Sequences()
	var list []soon
	for _, text := range d.Guests {
		if a, err := addr.Parse(text); err == nil {
			party := st.PartyOf(a)
			steps, _ := q.Party(party)
			if x, ok := s.soonOf(st, q, party, steps, s.Now()); ok {
				list = append(list, x)
			}
		}
	}
	if err := s.hear(ctx, list); err != nil {
		return nil, err
	}
	type line struct {
		at moment.Moment
		mail.Line
	}
	var lines []line
	for i := range list {
		x := &list[i]
		told := false
		for k := range x.steps {
			if x.sponsors[k] != d.Sponsor {
				continue
			}
			told = true
			step := &x.steps[k]
			who := x.name
			if who == "" {
				who = x.address.String()
			}
			what := phrase.Step(language, step.Kind)
			if step.Resource.ID != "" {
				what += ": " + st.NameOf(step.Resource)
			}
			lines = append(
				lines,
				line{
					step.At,
					mail.Line{
						Day:  dayWords(step.At, st, language),
						Who:  who,
						What: what + " (" + phrase.Because(language, &step.Step) + ")",
					},
				},
			)
		}
		if told {
			c.Count++
		}
	}
	if len(lines) == 0 {
		return nil, nil
	}
	sort.SliceStable(lines, func(i, j int) bool {
		return lines[i].at < lines[j].at || lines[i].at == lines[j].at && lines[i].Who < lines[j].Who
	})
	for i := range lines {
		c.Lines = append(c.Lines, lines[i].Line)
	}
	if c.More = d.Count - len(d.Guests); c.More > 0 {
		c.Count += c.More
	}
	msg, err := mail.Compose(m.Kind, language, c)
	return &msg, err
}

// endsThen says what of a guest's ends at a moment, and why: everything, or single grants.
// The cause is empty where there are several.
func endsThen(st *State, steps []engine.DueStep, at moment.Moment, language string) (what []string, cause string) {
	causes := map[dated.Cause]bool{}
	for i := range steps {
		x := &steps[i]
		if x.At != at || !ends(x) {
			continue
		}
		if x.Kind != dated.GrantEnds {
			k := x.Cause
			if x.Kind == dated.Removed {
				k = x.After
			}
			return []string{
				map[string]string{"en": "everything that you reach as a guest", "pt": "tudo a que tem acesso como convidado"}[language],
			}, causeSaid[language][k]
		}
		causes[x.Cause] = true
		cause = causeSaid[language][x.Cause]
		what = append(what, st.NameOf(x.Resource)+": "+roleWords[language][x.Role])
	}
	if len(causes) > 1 {
		cause = ""
	}
	return
}
