package service

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/mail"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/letter"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// ParseKeys reads services with their directions.
func ParseKeys(texts []string) (keys []catalogue.Key, err error) {
	for _, text := range texts {
		k, ok := catalogue.ParseKey(text)
		if !ok {
			return nil, &Invalid{"key", text, "write a service and a direction, as chat.in or spaces.out"}
		}
		keys = append(keys, k)
	}
	return keys, nil
}

// Draft writes a letter to a partner about keys; without any, about all that waits
// for them. by is the person of ours who answers for it, "" for the partner's
// owner.
func (s *State) Draft(at moment.Moment, partner string, keys []catalogue.Key, by string) (letter.Letter, error) {
	p, err := s.Partner(partner)
	if err != nil {
		return letter.Letter{}, err
	}
	l := letter.To(s.Policy(), p, s.Snapshot.Halves(p, at), keys)
	if by == "" {
		by = p.Owner
	}
	if name := s.NameOf(world.Resource{Kind: catalogue.Person, ID: by}); name != "" {
		l.Answer = name
		if a := s.AddressOf(by); a != "" {
			l.Answer += " (" + a + ")"
		}
	}
	return l, nil
}

// Behind finds what a refused question needs from a partner's own side: whose
// partner it is, and what it should admit.
func (s *State) Behind(q *engine.Question) (partner string, keys []catalogue.Key, err error) {
	x, err := s.Explain(q)
	if err != nil {
		return "", nil, err
	}
	for i := range x.Accounts {
		for g := range x.Accounts[i].Gates {
			for _, c := range x.Accounts[i].Gates[g].Causes {
				if c.Gate == catalogue.Counterpart && (c.Refuses || c.Code == catalogue.TheirsUnknown) {
					partner, keys = c.Partner, append(keys, c.Key)
				}
			}
		}
	}
	if partner == "" {
		return "", nil, &Invalid{
			"question",
			q.Subject.String() + " " + q.Action.String() + " " + q.Resource.String(),
			"nothing of it is theirs to admit; ask it to see what stands in the way",
		}
	}
	return partner, keys, nil
}

// SentLetter is what became of a letter, or would.
type SentLetter struct {
	Letter    world.Letter
	Mailed    []string // where it is mailed to, the owner's copy last
	MessageID string   // of what is mailed to the first of them
	NotMailed string   // why it is not mailed; empty where it is
	Same      []string // letters on the same matter that are open
}

// SendLetter keeps a letter as sent now, and returns it. The caller wrote it with
// Draft. With mail it is mailed to the addresses that it is sent to, with a copy to the
// partner's owner. A second one on the same matter is refused unless it is meant. In a
// preview nothing is written.
func (s *Service) SendLetter(ctx context.Context, by By, l world.Letter, mail, again bool) (*SentLetter, error) {
	out := &SentLetter{}
	err := s.changing(ctx, by.Who, by.Why, by.Preview, func(now *State, t *store.Tx) error {
		*out = SentLetter{}
		p, err := now.Partner(l.Partner)
		if err != nil {
			return err
		}
		if len(l.Keys) == 0 {
			if by.Preview {
				out.Letter = l
				return errPreview
			}
			return &Invalid{"about", "", "nothing waits for them; name what the letter is about"}
		}
		if l.To == "" {
			l.To = strings.Join(p.Contacts, ", ")
		}
		to, copyTo := s.addressesOf(now, p, l.To)
		switch {
		case !mail:
			out.NotMailed = "it was not asked for; send the text yourself, or mail it"
		case len(to) == 0:
			out.NotMailed = "there is no mail address to send it to"
		}
		if err := t.Naming("letter", `"partner":`+jsonText(p.ID), func(id string, doc []byte) error {
			old, err := letterOf(doc)
			if err == nil && old.Partner == p.ID && old.Answer == world.NoAnswer &&
				slices.ContainsFunc(old.Keys, func(k catalogue.Key) bool { return slices.Contains(l.Keys, k) }) {
				out.Same = append(out.Same, id)
			}
			return err
		}); err != nil {
			return err
		}
		if by.Preview {
			if out.NotMailed == "" {
				out.Mailed = texts(append(to, copyTo...))
			}
			out.Letter = l
			return errPreview
		}
		if mail && len(to) == 0 {
			return &Invalid{"to", l.To, "there is no mail address in it; give one, or keep the letter without mailing it"}
		}
		if len(out.Same) > 0 && !again {
			return fmt.Errorf(
				"%w: a letter to %s on the same matter is open, %s; close it, or ask for a second one (again)",
				ErrConflict,
				p.Name,
				strings.Join(out.Same, ", "),
			)
		}
		l.Sent, l.Answered, l.Answer = s.Now(), moment.Never, world.NoAnswer
		base := l.Partner + "-" + strings.ReplaceAll(moment.DayOf(l.Sent, now.Zone()).String(), "-", "")
		for n := 1; ; n++ {
			l.ID = base
			if n > 1 {
				l.ID = fmt.Sprintf("%s-%d", base, n)
			}
			old, err := t.Record("letter", l.ID)
			if err != nil {
				return err
			}
			if old == nil {
				break
			}
		}
		if out.NotMailed == "" {
			for _, a := range append(to, copyTo...) {
				m := &store.Message{
					MessageID: newMessageID(now.Host()),
					Recipient: a.String(),
					Kind:      "letter",
					Doc:       []byte(jsonOf(map[string]string{"letter": l.ID})),
					Made:      l.Sent,
					Due:       l.Sent,
				}
				if _, err := t.Post(m); err != nil {
					return err
				}
				out.Mailed = append(out.Mailed, m.Recipient)
				if out.MessageID == "" {
					out.MessageID = m.MessageID
				}
			}
		}
		out.Letter = l
		_, err = t.PutRecord("letter", l.ID, worldfile.LetterDoc(&l))
		return err
	})
	return out, err
}

// addressesOf picks the mail addresses out of whom a letter goes to, and that of the
// partner's owner.
func (s *Service) addressesOf(now *State, p *world.Partner, to string) (out, owner []addr.Address) {
	for _, word := range strings.FieldsFunc(to, func(r rune) bool {
		return r == ',' || r == ';' || r == '<' || r == '>' ||
			unicode.IsSpace(r)
	}) {
		if a, err := addr.Parse(word); err == nil && strings.Contains(word, "@") && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	if text := now.AddressOf(p.Owner); text != "" {
		if a, err := addr.Parse(text); err == nil && !slices.Contains(out, a) {
			owner = append(owner, a)
		}
	}
	return
}

func texts(list []addr.Address) (out []string) {
	for _, a := range list {
		out = append(out, a.String())
	}
	return
}

// composeLetter writes the mail that brings a letter, as it was kept; nil where it is closed
// already.
func (s *Service) composeLetter(ctx context.Context, id string) (*mail.Message, error) {
	l, err := s.Letter(ctx, id)
	if err != nil {
		return nil, dropIfGone(err)
	}
	if l.Answer != world.NoAnswer {
		return nil, nil
	}
	d, err := s.State().Draft(s.Now(), l.Partner, l.Keys, l.By)
	if err != nil {
		return nil, dropIfGone(err)
	}
	d.Reference, d.Occasion = l.ID, l.Note
	return &mail.Message{Subject: d.Subject(), Text: d.Text(), HTML: d.HTML()}, nil
}

// Letters lists letters, the open ones first, each sort by when it was sent. A
// partner's id narrows it down.
func (s *Service) Letters(ctx context.Context, partner string) (out []world.Letter, err error) {
	err = s.store.Records(ctx, "letter", "", func(_ string, doc []byte) error {
		l, err := letterOf(doc)
		if err != nil { // it is a finding, and hides no other
			return nil
		}
		if partner == "" || l.Partner == partner {
			out = append(out, l)
		}
		return nil
	})
	sort.SliceStable(out, func(i, j int) bool {
		a, b := &out[i], &out[j]
		if x, y := a.Answer == world.NoAnswer, b.Answer == world.NoAnswer; x != y {
			return x
		}
		if a.Answer == world.NoAnswer {
			return a.Sent < b.Sent
		}
		return a.Answered > b.Answered
	})
	return
}

// Letter finds a letter.
func (s *Service) Letter(ctx context.Context, id string) (world.Letter, error) {
	doc, err := s.store.Record(ctx, "letter", id)
	if err != nil {
		return world.Letter{}, err
	}
	if doc == nil {
		return world.Letter{}, fmt.Errorf("%w: there is no letter %q", ErrNotFound, id)
	}
	return letterOf(doc)
}

// CloseLetter closes a letter by hand: what they said, or that it was withdrawn.
func (s *Service) CloseLetter(ctx context.Context, by By, id, answer, said string) error {
	return s.change(ctx, by.Who, by.Why, func(_ *State, t *store.Tx) error {
		doc, err := t.Record("letter", id)
		if err != nil {
			return err
		}
		if doc == nil {
			return fmt.Errorf("%w: there is no letter %q", ErrNotFound, id)
		}
		l, err := letterOf(doc)
		if err != nil {
			return err
		}
		if l.Answer != world.NoAnswer {
			return fmt.Errorf("%w: the letter %q is closed already, %s", ErrConflict, id, world.AnswerNames[l.Answer])
		}
		for i, n := range world.AnswerNames {
			if i > 0 && n == answer {
				l.Answer, l.Answered, l.Said = world.Answer(i), s.Now(), said
				_, err := t.PutRecord("letter", id, worldfile.LetterDoc(&l))
				return err
			}
		}
		return &Invalid{"answer", answer, "write " + strings.Join(world.AnswerNames[1:], ", ")}
	})
}

// settle closes the letters that a partner's stances answer; p has them as they
// are from now on.
func (s *Service) settle(t *store.Tx, now *State, p *world.Partner, how string) error {
	var open []world.Letter
	if err := t.Naming("letter", `"partner":`+jsonText(p.ID), func(_ string, doc []byte) error {
		l, err := letterOf(doc)
		if err == nil && l.Partner == p.ID && l.Answer == world.NoAnswer {
			open = append(open, l)
		}
		return err
	}); err != nil {
		return err
	}
	for i := range open {
		l := &open[i]
		a, when, done := l.Settle(p, now.Side(p.ID, s.Now()), now.Zone())
		if !done {
			continue
		}
		l.Answer, l.Answered, l.Said = a, when, how
		if _, err := t.PutRecord("letter", l.ID, worldfile.LetterDoc(l)); err != nil {
			return err
		}
	}
	return nil
}

// letterOf reads a letter that is kept already.
func letterOf(doc []byte) (world.Letter, error) {
	l, _, err := worldfile.Kept(worldfile.LetterOf, doc)
	return l, err
}

// withStance is a partner whose stances are followed by these.
func withStance(p *world.Partner, said ...world.Stance) *world.Partner {
	q := *p
	q.Stance = nil
	for _, old := range p.Stance {
		keep := true
		for _, n := range said {
			keep = keep && n.Key != old.Key
		}
		if keep {
			q.Stance = append(q.Stance, old)
		}
	}
	q.Stance = append(q.Stance, said...)
	return &q
}
