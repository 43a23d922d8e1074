package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/phrase"
	"wexillum.example/internal/scim"
	"wexillum.example/internal/store"

	"github.com/google/uuid"
)

// fedPerson is what of a user comes to a record.
type fedPerson struct {
	Address                  addr.Address
	Name, Language, Location string
}

// maps reads of a user what comes to their record, as a feed has it.
func (s *State) maps(f *Feed, u scim.User) (p fedPerson, err *scim.Error) {
	var tried []string
	called := f.Partner
	if p, err := s.Partner(f.Partner); err == nil {
		called = p.Name
	}
	for _, from := range []string{"userName", "emails"} {
		if f.Address != "either" && f.Address != from {
			continue
		}
		text := u.Text("userName")
		if from == "emails" {
			text = u.Primary("emails", "value")
		}
		if text == "" {
			continue
		}
		a, wrong := addr.Parse(text)
		if wrong != nil || a.IsNewcomer() {
			tried = append(tried, fmt.Sprintf("%s %q is no mail address", from, text))
			continue
		}
		m := s.Match(a)
		switch {
		case m.Partner == nil || m.Partner.ID != f.Partner:
			tried = append(tried, fmt.Sprintf("%s %q: %s is no domain of %s here", from, text, a.Domain(), called))
			continue
		case m.Bar != nil:
			return p, &scim.Error{Status: http.StatusForbidden, Detail: fmt.Sprintf("%s is barred here", a)}
		}
		p.Address = a
		break
	}
	if p.Address.IsZero() {
		if len(tried) == 0 {
			tried = []string{"there is no primary mail"}
		}
		return p, &scim.Error{Status: http.StatusBadRequest, Type: scim.InvalidValue, Detail: "no address: " + strings.Join(tried, "; ")}
	}
	if f.Name != "name" {
		p.Name = u.Text("displayName")
	}
	if p.Name == "" && f.Name != "displayName" {
		p.Name = cmp.Or(u.Text("name.formatted"), strings.TrimSpace(u.Text("name.givenName")+" "+u.Text("name.familyName")))
	}
	if runes := []rune(strings.Join(strings.Fields(p.Name), " ")); true {
		p.Name = string(runes[:min(len(runes), 200)])
	}
	for _, l := range []string{u.Text("preferredLanguage"), u.Text("locale")} {
		l = strings.ToLower(strings.FieldsFunc(l+" ", func(r rune) bool { return r == '-' || r == '_' || r == ',' || r == ';' })[0])
		if p.Language == "" && slices.Contains(phrase.Languages, strings.TrimSpace(l)) {
			p.Language = strings.TrimSpace(l)
		}
	}
	if c := strings.ToUpper(u.Primary("addresses", "country")); len(c) == 2 {
		p.Location = c
	}
	return p, nil
}

// Outcomes of what a feed says of somebody.
const (
	FedNew     = "new"        // a record is made
	FedTaken   = "taken_over" // a guest who is here already is kept by the feed from now on
	FedSame    = "same"       // nothing is otherwise
	FedChanged = "changed"    // name, language or place
	FedClosed  = "closed"     // the home account is closed: the record is suspended
	FedBack    = "back"       // and comes back
	FedStays   = "stays"      // it stays suspended, as something else stands against it
	FedNobody  = "nobody"     // not in use, and no record is here
	FedRemoved = "removed"    // taken away
)

// fedInto brings what a feed says of somebody to their record. Nothing is written yet.
func (s *Service) fedInto(now *State, f *Feed, p *fedPerson, g *world.Guest, active bool, at moment.Moment) (next *world.Guest, what,
	why string, err error) {
	switch {
	case g == nil && !active:
		return nil, FedNobody, "", nil
	case g == nil:
		next = &world.Guest{Address: p.Address, Name: p.Name, Sponsor: f.Sponsor, Purpose: "kept here by their own organisation",
			State: world.StateInvited, Origins: world.ByFeed, Since: at, Accepted: moment.Never,
			Language: p.Language, Location: p.Location, Renewed: moment.Always, Until: moment.Never, Terms: moment.Never, LastSeen: moment.Always,
			StateSince: moment.Always}
		if now.feedSilent(f) {
			next.State, next.Accepted = world.StateActive, at
		}
		return next, FedNew, "", nil
	}
	c := *g
	next, what = &c, FedSame
	if active && p.Name != "" && p.Name != g.Name || p.Language != "" && p.Language != g.Language && g.Provisioned() ||
		p.Location != "" && p.Location != g.Location {
		next.Name, next.Location = cmp.Or(p.Name, g.Name), cmp.Or(p.Location, g.Location)
		if g.Provisioned() {
			next.Language = cmp.Or(p.Language, g.Language)
		}
		what = FedChanged
	}
	if g.Origins&world.ByFeed == 0 {
		// a record of which nobody says how it came to be is not the feed's alone
		next.Origins = max(g.Origins, world.ByInvitation) | world.ByFeed
		what = FedTaken
	}
	switch {
	case !active && g.HomeClosed == 0:
		next.HomeClosed, what = at, FedClosed
	case active && g.HomeClosed != 0:
		next.HomeClosed, what = 0, FedBack
		if g.State == world.StateSuspended && g.Cause == dated.ByHomeClosed.String() {
			up := *next
			if g.Provisioned() { // it knows only its feed, so nothing else stands
				up.State, up.Cause, up.StateSince = world.StateActive, "", at
				if up.Accepted == moment.Never {
					up.State, up.StateSince = world.StateInvited, moment.Always
				}
				return &up, what, "", nil
			}
			if err := s.bringBack(now, &up, nil, at); err != nil {
				var no *Refused
				if !errors.As(err, &no) {
					return nil, "", "", err
				}
				return next, FedStays, no.Reason, nil
			}
			return &up, what, "", nil
		}
		if g.State == world.StateSuspended {
			return next, FedStays, "it was suspended for another reason, " + standing[causeOf(g)], nil
		}
	}
	return next, what, "", nil
}

func causeOf(g *world.Guest) dated.Cause {
	c, _ := dated.ParseCause(g.Cause)
	return c
}

// Fed is somebody whom a feed keeps, as the protocol has them.
type Fed struct {
	store.FedUser
	User scim.User
	What string // of the outcomes; empty while the feed is watched
}

func fedOf(u *store.FedUser) (*Fed, error) {
	x := &Fed{FedUser: *u}
	return x, json.Unmarshal(u.Doc, &x.User)
}

func notThere(id string) *scim.Error {
	return &scim.Error{Status: http.StatusNotFound, Detail: fmt.Sprintf("there is no user %q", id)}
}

// feeding is a change by a feed: it is let in, or refused in the words of the protocol. What came of it is logged.
func (s *Service) feeding(ctx context.Context, who Who, why string,
	fn func(now *State, t *store.Tx, f *Feed, at moment.Moment) (*Fed, string, error)) (*Fed, error) {
	partner := feedOf(who)
	var out *Fed
	var detail string
	err := s.change(ctx, who.Name, why, func(now *State, t *store.Tx) error {
		f, err := feedIn(t.Record("feed", partner))
		if err != nil {
			return err
		}
		if f == nil {
			return &scim.Error{Status: http.StatusForbidden, Detail: "this feed has ended"}
		}
		if shut := now.feedShut(partner); shut != "" {
			return &scim.Error{Status: http.StatusForbidden, Detail: shut}
		}
		out, detail, err = fn(now, t, f, s.Now())
		return err
	})
	line := &store.FedLine{Partner: partner, At: s.Now(), Detail: detail}
	if out != nil {
		line.What, line.User, line.Address = out.What, out.ID, out.Address
	}
	var no *scim.Error
	switch {
	case errors.As(err, &no):
		line.What, line.Detail = "refused", no.Detail
		if no.Status == http.StatusServiceUnavailable {
			line.What = "braked"
		}
	case errors.Is(err, errPreview):
		return out, nil
	case err != nil:
		return nil, err
	}
	if no == nil || no.Status != http.StatusNotFound && no.Status != http.StatusPreconditionFailed {
		if wrong := s.store.LogFed(context.WithoutCancel(ctx), line); wrong != nil {
			s.log.WarnContext(ctx, "what came of a request of a feed is not logged", "partner", partner, "error", wrong)
		}
	}
	return out, err
}

// FeedCreate takes in somebody whom a partner's feed tells of.
func (s *Service) FeedCreate(ctx context.Context, who Who, u scim.User) (*Fed, error) {
	return s.feeding(ctx, who, "their feed tells of them", func(now *State, t *store.Tx, f *Feed, at moment.Moment) (*Fed, string, error) {
		x := &Fed{FedUser: store.FedUser{ID: uuid.NewString(), Partner: f.Partner, Made: at}, User: u}
		return s.putFed(now, t, f, nil, x, at)
	})
}

// FeedChange changes somebody; ifMatch is the version that they must have, or empty.
func (s *Service) FeedChange(ctx context.Context, who Who, id, ifMatch string, fn func(scim.User) (scim.User, *scim.Error)) (*Fed, error) {
	return s.feeding(ctx, who, "their feed changed them", func(now *State, t *store.Tx, f *Feed, at moment.Moment) (*Fed, string, error) {
		was, err := fedNow(t, f, id, ifMatch)
		if err != nil {
			return nil, "", err
		}
		next := *was
		u, no := fn(was.User.Clone())
		if no != nil {
			return was, "", no
		}
		next.User = u
		return s.putFed(now, t, f, was, &next, at)
	})
}

// fedNow reads somebody within a change, in the version that is expected.
func fedNow(t *store.Tx, f *Feed, id, ifMatch string) (*Fed, error) {
	list, err := t.FedWith(f.Partner, store.FedByID, id)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, notThere(id)
	}
	if v := (&scim.Meta{Version: list[0].Version}).ETag(); ifMatch != "" && ifMatch != "*" &&
		!slices.ContainsFunc(strings.Split(ifMatch, ","), func(e string) bool { return strings.TrimSpace(e) == v }) {
		return nil, &scim.Error{Status: http.StatusPreconditionFailed, Detail: fmt.Sprintf("it was changed meanwhile: it is %s now", v)}
	}
	return fedOf(&list[0])
}

// putFed writes what a feed says of somebody, and brings it to their record where the feed is on.
func (s *Service) putFed(now *State, t *store.Tx, f *Feed, was, next *Fed, at moment.Moment) (*Fed, string, error) {
	p, no := now.maps(f, next.User)
	if no != nil {
		return next, "", no
	}
	next.UserName, next.ExternalID, next.Active = strings.ToLower(next.User.Text("userName")), next.User.Text("externalId"), next.User.Active()
	for by, value := range map[store.FedWhere]string{store.FedByName: next.UserName, store.FedByAddress: p.Address.String()} {
		others, err := t.FedWith(f.Partner, by, value)
		if err != nil {
			return nil, "", err
		}
		for _, o := range others {
			if o.ID != next.ID {
				return next, "", &scim.Error{Status: http.StatusConflict, Type: scim.Uniqueness,
					Detail: fmt.Sprintf("%s is told of already, as %s", value, o.ID)}
			}
		}
	}
	if len(next.UserName) > 400 || len(next.ExternalID) > 400 {
		return next, "", &scim.Error{Status: http.StatusBadRequest, Type: scim.InvalidValue,
			Detail: "userName and externalId are at most 400 letters"}
	}
	doc, err := json.Marshal(next.User)
	if err != nil {
		return nil, "", err
	}
	// nothing is otherwise (RFC 7644 §3.5.2: then the version stays)
	if was != nil && string(doc) == string(mustDoc(was.User)) && was.Applied {
		next.What = FedSame
		return next, "", errPreview
	}
	moved := was != nil && was.Address != p.Address.String()
	closes := !next.Active && (was == nil || was.Active) && was != nil || moved && was.Active
	if closes {
		if err := s.feedBrake(now, t, f, at); err != nil {
			return next, "", err
		}
		next.Closed = at
	}
	if next.Active && !moved {
		next.Closed = 0
	}
	next.Doc, next.Version, next.Changed, next.Address, next.Applied = doc, next.Version+1, at, p.Address.String(), f.State == FeedOn
	var before *store.FedUser
	if was != nil {
		before = &was.FedUser
	}
	if err := t.PutFed(before, &next.FedUser); err != nil {
		return nil, "", err
	}
	if f.State != FeedOn {
		next.What = "watched"
		return next, "", nil
	}
	detail := ""
	if moved { // the record stays under its old address, which is theirs no longer
		if err := s.closeHome(now, t, was.Address, at); err != nil {
			return nil, "", err
		}
		detail = fmt.Sprintf("the address was %s; merge the two records: wexillum guest merge %s %s", was.Address, was.Address, p.Address)
	}
	why, err := s.applyFed(now, t, f, next, &p, at)
	return next, cmp.Or(why, detail), err
}

func mustDoc(u scim.User) []byte {
	b, _ := json.Marshal(u)
	return b
}

// applyFed brings somebody to their record.
func (s *Service) applyFed(now *State, t *store.Tx, f *Feed, x *Fed, p *fedPerson, at moment.Moment) (why string, err error) {
	g, err := s.guestNow(now, t, p.Address, at)
	if err != nil {
		return "", err
	}
	next, what, why, err := s.fedInto(now, f, p, g, x.Active, at)
	x.What = what
	if err != nil || next == nil {
		return why, err
	}
	if what == FedClosed {
		if err := t.EndSessions(GuestName(p.Address.String())); err != nil {
			return "", err
		}
	}
	_, err = t.PutGuest(next)
	return why, err
}

// closeHome notes that the home account of a record is closed.
func (s *Service) closeHome(now *State, t *store.Tx, address string, at moment.Moment) error {
	a, err := addr.Parse(address)
	if err != nil {
		return err
	}
	g, err := s.guestNow(now, t, a, at)
	if err != nil || g == nil || g.HomeClosed != 0 {
		return err
	}
	g.HomeClosed = at
	if err := t.EndSessions(GuestName(address)); err != nil {
		return err
	}
	_, err = t.PutGuest(g)
	return err
}

// feedBrake refuses what would close more accounts in a day than a feed may.
func (s *Service) feedBrake(now *State, t *store.Tx, f *Feed, at moment.Moment) error {
	most := f.most(now)
	if most == 0 {
		return nil
	}
	c, err := t.FedCounts(f.Partner, f.counted(at))
	if err != nil || c.ClosedLately < most {
		return err
	}
	return &scim.Error{Status: http.StatusServiceUnavailable,
		Detail: fmt.Sprintf("the feed has closed %d accounts within a day, which is as many as it may; an administrator here lets it go on",
			c.ClosedLately)}
}

// FeedDelete takes somebody away: their home account is closed, whatever else the record rests on.
func (s *Service) FeedDelete(ctx context.Context, who Who, id, ifMatch string) error {
	_, err := s.feeding(ctx, who, "their feed took them away", func(now *State, t *store.Tx, f *Feed, at moment.Moment) (*Fed, string, error) {
		was, err := fedNow(t, f, id, ifMatch)
		if err != nil {
			return nil, "", err
		}
		next := *was
		if was.Active {
			if err := s.feedBrake(now, t, f, at); err != nil {
				return was, "", err
			}
			next.Closed = at
		}
		next.What, next.Gone, next.Changed = FedRemoved, at, at
		if err := t.PutFed(&was.FedUser, &next.FedUser); err != nil {
			return nil, "", err
		}
		if f.State == FeedOn && was.Applied {
			if err := s.closeHome(now, t, was.Address, at); err != nil {
				return nil, "", err
			}
		}
		return &next, "", nil
	})
	return err
}

// FeedGet finds somebody whom a feed keeps.
func (s *Service) FeedGet(ctx context.Context, who Who, id string) (*Fed, error) {
	list, err := s.store.FedWith(ctx, feedOf(who), store.FedByID, id)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, notThere(id)
	}
	return fedOf(&list[0])
}

// FeedFind hands over those whom a feed keeps and who may match a filter, in the order in which they came. total is how many there are
// where no filter is given: then skip and limit pick a page.
func (s *Service) FeedFind(ctx context.Context, who Who, f *scim.Filter, skip, limit int, fn func(*Fed) error) (total int, err error) {
	partner := feedOf(who)
	hand := func(list []store.FedUser) error {
		for i := range list {
			x, err := fedOf(&list[i])
			if err != nil {
				return err
			}
			if err := fn(x); err != nil {
				return err
			}
		}
		return ctx.Err()
	}
	if f == nil {
		c, err := s.store.FedCounts(ctx, partner, moment.Never)
		if err != nil {
			return 0, err
		}
		list, err := s.store.FedPage(ctx, partner, 0, skip, limit)
		if err != nil {
			return 0, err
		}
		return c.All, hand(list)
	}
	for name, by := range map[string]store.FedWhere{"id": store.FedByID, "userName": store.FedByName, "externalId": store.FedByExternal} {
		if value, ok := f.Equals(name); ok {
			if by == store.FedByName {
				value = strings.ToLower(value)
			}
			list, err := s.store.FedWith(ctx, partner, by, value)
			if err != nil {
				return 0, err
			}
			return 0, hand(list)
		}
	}
	for after := uint64(0); ; {
		list, err := s.store.FedPage(ctx, partner, after, 0, 1000)
		if err != nil || len(list) == 0 {
			return 0, err
		}
		after = list[len(list)-1].N
		if err := hand(list); err != nil {
			return 0, err
		}
	}
}
