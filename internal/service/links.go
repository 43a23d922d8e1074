package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	verdicts "wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// MaxNamed is how many addresses one link may name.
const MaxNamed = 200

// LinkAsked is a link as it is asked for.
type LinkAsked struct {
	ID       string // absent: drawn, the item's id with some letters behind
	Item     string // a file or a folder
	Bearer   bool   // for whoever holds it; otherwise for those on the list
	For      string // addresses as verdicts.Split reads them
	Right    string // view unless it says contribute or manage; a bearer link never manages
	Until    string // absent: only the rules end it
	Download bool
	Password bool
	By       string // a person of ours; absent: whoever asks, or an owner of the space
	Why      string
}

// MadeLink is what became of a link that was asked for, or would become of it.
type MadeLink struct {
	Link    world.Link
	Made    bool
	Refused []engine.Cause   // of a bearer link: why it would not work
	Lines   []InvitedLine    // of those it names
	Opens   []Opens          // with preview; Who is the zero address of a bearer link
	After   *engine.Snapshot // as it is with the link
}

// MakeLink makes a link where it would work: one for whoever holds it where nothing refuses
// it, one for some addresses for those to whom the item may be shared. Nothing is made where
// nobody could use it. With preview nothing is written, and it is told what it would open.
func (s *Service) MakeLink(ctx context.Context, who Who, x LinkAsked, preview bool) (*MadeLink, error) {
	if x.Bearer == (strings.TrimSpace(x.For) != "") {
		return nil, &Invalid{"for", x.For, "write whom the link names, or bearer for whoever holds it, not both"}
	}
	if x.ID != "" && !worldfile.ValidID(x.ID) {
		return nil, &Invalid{"id", x.ID, "lower-case letters, digits, dots, hyphens and underscores, a letter or digit first, at most 100"}
	}
	var list []invitee
	if !x.Bearer {
		var err error
		if list, err = invitees(x.For); err != nil {
			return nil, err
		}
		if len(list) > MaxNamed {
			return nil, &Invalid{"for", fmt.Sprint(len(list)), fmt.Sprintf("a link names at most %d addresses", MaxNamed)}
		}
	}
	var out *MadeLink
	err := s.changing(ctx, who.Name, x.Why, preview, func(now *State, t *store.Tx) error {
		var err error
		if preview { // as the draft that it is asked in would have it
			if now, err = s.StateIn(ctx); err != nil {
				return err
			}
		}
		if out, err = s.makeLink(now, t, who, &x, list, preview); err != nil {
			return err
		}
		if preview || !out.Made {
			return errPreview
		}
		return nil
	})
	return out, err
}

func (s *Service) makeLink(now *State, t *store.Tx, who Who, x *LinkAsked, list []invitee, preview bool) (*MadeLink, error) {
	at := s.Now()
	l := world.Link{ID: x.ID, Created: at, Until: moment.Never, Download: x.Download, Password: x.Password, By: x.By}
	var err error
	if l.Item, err = engine.ParseResource(strings.TrimSpace(x.Item)); err != nil {
		return nil, &Invalid{"item", x.Item, "write a file or a folder, as file:press-kit"}
	}
	if l.Item.Kind != catalogue.File && l.Item.Kind != catalogue.Folder {
		return nil, &Invalid{"item", x.Item, "a link opens a file or a folder"}
	}
	if !now.Has(l.Item.Kind.String(), l.Item.ID) {
		return nil, &Invalid{"item", x.Item, "there is no such " + l.Item.Kind.String()}
	}
	right := x.Right
	if right == "" {
		right = "view"
	}
	var ok bool
	if l.Right, ok = catalogue.ParseRole(right); !ok || l.Right == catalogue.NoRole || x.Bearer && l.Right == catalogue.Manage {
		return nil, &Invalid{"right", x.Right, "write view or contribute; a link that names people may also manage"}
	}
	if x.Until != "" {
		if l.Until, err = moment.ParseEnd(x.Until, at, now.Zone()); err != nil {
			return nil, &Invalid{"until", x.Until, err.Error()}
		}
		if l.Until <= at {
			return nil, &Invalid{"until", x.Until, "it lies before now"}
		}
	}
	if err := s.maker(now, who, &l); err != nil {
		return nil, err
	}
	if l.ID == "" {
		b := make([]byte, 4)
		_, _ = rand.Read(b)
		l.ID = l.Item.ID[:min(len(l.Item.ID), 80)] + "-" + hex.EncodeToString(b)
	}
	if doc, err := t.Record("link", l.ID); err != nil {
		return nil, err
	} else if doc != nil || now.Has("link", l.ID) {
		return nil, &Invalid{"id", l.ID, "there is such a link already; its id is kept even once it has ended"}
	}
	out := &MadeLink{}
	if x.Bearer {
		if err := judgeBearer(now, &l, out, at, preview); err != nil {
			return nil, err
		}
	} else if err := judgeNamed(now, &l, out, list, at, preview); err != nil {
		return nil, err
	}
	out.Link = l
	if !out.Made || preview {
		return out, nil
	}
	_, err = t.PutRecord("link", l.ID, worldfile.LinkDoc(&l))
	return out, err
}

// maker finds whose link it is: members make their own, in spaces that they belong to.
func (s *Service) maker(now *State, who Who, l *world.Link) error {
	if who.Own() {
		if l.By != "" && l.By != who.Person {
			return &Invalid{"by", l.By, "members make links of their own"}
		}
		l.By = who.Person
	}
	if l.By == "" && who.Person != "" && now.BelongsTo(who.Person, l.Item) {
		l.By = who.Person
	}
	if l.By == "" {
		if l.By = now.Inviter(world.Resource{Kind: catalogue.Space, ID: now.SpaceOf(l.Item.ID)}); l.By == "" {
			return &Invalid{"by", "", "say whose link it is: nobody owns the space, and no person is an administrator"}
		}
	}
	if !now.Has("person", l.By) {
		return &Invalid{"by", l.By, "there is no such person"}
	}
	if now.LeftAt(l.By) != 0 {
		return &Invalid{"by", l.By, "they have left us; name somebody who is here"}
	}
	if !now.BelongsTo(l.By, l.Item) {
		return &Invalid{"by", l.By, "they neither own nor belong to the space of " + l.Item.String() + "; name somebody who does"}
	}
	return nil
}

func judgeBearer(now *State, l *world.Link, out *MadeLink, at moment.Moment, preview bool) error {
	e := now.Aside()
	e.PutLink(l)
	after := e.Done()
	out.After = after
	open, _ := catalogue.ActionByName("files.open")
	x, err := after.Explain(
		&engine.Question{Subject: engine.Who{Kind: engine.ByLinkID, ID: l.ID}, Action: open.ID, Resource: l.Item, At: at},
	)
	if err != nil {
		return err
	}
	if d := x.Deciding(); d.Yes {
		out.Made = true
	} else {
		out.Refused = d.Refusals()
	}
	if !preview || !out.Made {
		return nil
	}
	o := Opens{Of: "bearer", Count: 1, State: after}
	o.Lines, err = now.WouldOn(after, engine.Who{Kind: engine.ByLinkID, ID: l.ID}, l.Item, at)
	out.Opens = append(out.Opens, o)
	return err
}

// judgeNamed asks for each address whether the maker may share the item with it, and leaves
// in the link those who may have it.
func judgeNamed(now *State, l *world.Link, out *MadeLink, list []invitee, at moment.Moment, preview bool) error {
	checker, err := verdicts.New(now.Snapshot, verdicts.Options{Keep: true, Into: l.Item, Share: true, As: l.By, At: at})
	if err != nil {
		return err
	}
	l.For = []addr.Address{}
	for _, e := range list {
		line := InvitedLine{Line: checker.Check(e.line, e.text), Name: e.name}
		if line.Verdict == verdicts.Yes {
			a, err := addr.Parse(line.Address)
			if err != nil {
				return err
			}
			l.For, line.Done = append(l.For, a), "given"
		}
		out.Lines = append(out.Lines, line)
	}
	out.Made = len(l.For) > 0
	e := now.Aside()
	e.PutLink(l)
	after := e.Done()
	if out.After = after; !out.Made || !preview {
		return nil
	}
	classes := map[string]int{}
	for _, a := range l.For {
		of := a.Domain().String()
		if m := now.Match(a); m.Partner != nil {
			of = m.Partner.ID
		}
		k, ok := classes[of]
		if !ok {
			k = len(out.Opens)
			classes[of] = k
			lines, err := now.WouldOn(after, engine.Who{Address: a}, l.Item, at)
			if err != nil {
				return err
			}
			out.Opens = append(out.Opens, Opens{Of: of, Who: a, Lines: lines, State: after})
		}
		out.Opens[k].Count++
	}
	return nil
}
