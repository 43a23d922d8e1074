package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Etag is a validator of a doc (RFC 9110 §8.8.3).
func Etag(doc []byte) string { return store.Etag(doc) }

// part makes a change of policy: an edit of the draft that ctx is in, or published at
// once as a draft of one change.
func (s *Service) part(ctx context.Context, who, why string, make func(*State) (*world.World, error)) error {
	if id := DraftIn(ctx); id != "" {
		return s.editDraft(ctx, id, who, why, make)
	}
	return s.quick(ctx, who, why, make)
}

// RuleChange is a change of a rule's limit and default; empty leaves one as it is.
type RuleChange struct {
	Rule           string
	Limit, Default string
	Held           bool
	IfMatch        string
}

// SetRule changes what the organisation says of a rule.
func (s *Service) SetRule(ctx context.Context, who, why string, c RuleChange) error {
	rule, err := FindRule(c.Rule)
	if err != nil {
		return err
	}
	parse := func(field, text string) (catalogue.Value, error) {
		if text == "" {
			return catalogue.Unset, nil
		}
		return ParseValue(rule, field, text)
	}
	limit, err := parse("limit", c.Limit)
	if err != nil {
		return err
	}
	def, err := parse("default", c.Default)
	if err != nil {
		return err
	}
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		if c.IfMatch != "" && c.IfMatch != now.RuleEtag(rule.ID) {
			return nil, ErrStale
		}
		set := world.RuleSetting{Rule: rule.ID, Limit: limit, Default: def, Held: c.Held && def != catalogue.Unset, Counts: catalogue.Unset}
		limits := world.Limits(now.Policy(), &world.World{Policy: world.Policy{Rules: []world.RuleSetting{set}}})
		if def != catalogue.Unset && rule.Scale.Looser(def, limits[rule.ID]) {
			if !c.Held {
				return nil, &Invalid{
					"default",
					c.Default,
					fmt.Sprintf(
						"it is looser than the limit, %s; raise the limit first, or give the default as held back",
						rule.Scale.Format(limits[rule.ID]),
					),
				}
			}
			set.Counts = limits[rule.ID]
		}
		return world.Merge(now.Policy(), &world.World{Policy: world.Policy{Rules: []world.RuleSetting{set}}}), nil
	})
}

// SetTwoPeople changes when somebody else must confirm what is published: never, where it
// loosens something, or always.
func (s *Service) SetTwoPeople(ctx context.Context, who, why, when string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		if now.Policy().Organisation == nil {
			return nil, fmt.Errorf("%w: nothing is said of the organisation yet; load it first", ErrConflict)
		}
		o := *now.Policy().Organisation
		o.TwoPeople = when
		return world.Merge(now.Policy(), &world.World{Policy: world.Policy{Organisation: &o}}), nil
	})
}

// RuleEtag is the validator of what the organisation says of a rule.
func (s *State) RuleEtag(r catalogue.RuleID) string {
	for _, x := range s.Policy().Rules {
		if x.Rule == r {
			return Etag(worldfile.RuleDoc(x))
		}
	}
	return Etag(nil)
}

// Partner finds a partner.
func (s *State) Partner(id string) (*world.Partner, error) {
	for i := range s.Policy().Partners {
		if p := &s.Policy().Partners[i]; p.ID == id {
			return p, nil
		}
	}
	return nil, fmt.Errorf("%w: there is no partner %q", ErrNotFound, id)
}

// PartnerEtag is the validator of what the policy says of a partner.
func PartnerEtag(p *world.Partner) string {
	q := *p
	q.Stance = nil
	return Etag(worldfile.PartnerDoc(&q))
}

// fieldError turns the errors of a record that did not come as a file into one
// that names the field.
func fieldError(field, value string, err error) error {
	var es worldfile.Errors
	if errors.As(err, &es) && len(es) > 0 {
		var reasons []string
		for _, e := range es {
			reasons = append(reasons, e.Msg)
		}
		return &Invalid{field, value, strings.Join(reasons, "; ")}
	}
	return err
}

// readPart reads one record of policy, whose doc is a JSON object, as a file is
// read that holds it alone. What is wrong names the field of the record; where
// it is of none, what is recorded and its id.
func (s *Service) readPart(known worldfile.Known, section, noun, id string, doc []byte) (*world.World, error) {
	head := `{"wexillum": "1", "` + section + `": [`
	part, err := worldfile.Read(append(append([]byte(head), doc...), "]}"...), worldfile.Options{Now: s.Now(), Known: known})
	var es worldfile.Errors
	if errors.As(err, &es) && len(es) > 0 && es[0].Line == 1 {
		if field, value, ok := fieldAt(doc, es[0].Col-1-len(head)); ok {
			return nil, fieldError(field, value, err)
		}
	}
	return part, fieldError(noun, id, err)
}

// fieldAt finds the field of a JSON object in which a character is, counted from
// 0, with what is said there: a text as it is, anything else as JSON, of which
// the beginning has to do.
func fieldAt(doc []byte, at int) (field, value string, ok bool) {
	const most = 60
	d := json.NewDecoder(bytes.NewReader(doc))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return
		}
		if at >= utf8.RuneCount(doc[:d.InputOffset()]) {
			continue
		}
		field, _ = key.(string)
		if json.Unmarshal(raw, &value) != nil {
			value = string(raw)
		}
		if r := []rune(value); len(r) > most {
			value = string(r[:most]) + "…"
		}
		return field, value, at >= 0
	}
	return
}

// AddBar bars a domain or an address; doc is the bar as the file format has it.
func (s *Service) AddBar(ctx context.Context, who, why string, doc []byte) (world.Bar, error) {
	var bar world.Bar
	err := s.part(ctx, who, why, func(now *State) (*world.World, error) {
		part, err := s.readPart(now, "barred", "bar", string(doc), doc)
		if err != nil {
			return nil, err
		}
		bar = part.Barred[0]
		for i := range now.Policy().Barred {
			if now.Policy().Barred[i].Key() == bar.Key() {
				return nil, fmt.Errorf("%w: %s is barred already", ErrConflict, bar.Key())
			}
		}
		return world.Merge(now.Policy(), part), nil
	})
	return bar, err
}

// LiftBar removes a bar by its domain or address.
func (s *Service) LiftBar(ctx context.Context, who, why, key string) error {
	want := strings.ToLower(key)
	if d, err := addr.ParseDomain(key); err == nil {
		want = d.String()
	} else if a, err := addr.Parse(key); err == nil {
		want = a.String()
	}
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		next := *now.Policy()
		next.Barred = nil
		for _, b := range now.Policy().Barred {
			if b.Key() != want {
				next.Barred = append(next.Barred, b)
			}
		}
		if len(next.Barred) == len(now.Policy().Barred) {
			return nil, fmt.Errorf("%w: %s is not barred", ErrNotFound, key)
		}
		return &next, nil
	})
}
