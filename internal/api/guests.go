package api

import (
	"context"
	"fmt"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/phrase"
	"wexillum.example/internal/service"
)

// ownGuests keeps members to those they answer for.
func ownGuests(ctx context.Context, sponsor *string) {
	if who := whoIs(ctx); who.Own() {
		if *sponsor = who.Person; who.Person == "" {
			*sponsor = "-" // no id
		}
	}
}

// said writes a moment, or nothing where there is none.
func said(m moment.Moment) *string {
	if !m.IsSet() || m == 0 {
		return nil
	}
	return ptr(m.String())
}

// short writes what a list tells of a record. held is how many grants it has; steps what
// becomes of it.
func (s *server) short(st *service.State, g *world.Guest, held int, steps []engine.DueStep) contract.GuestShort {
	if dated, ok := st.Dated(g, s.Service.Now()); ok {
		g = &dated
	}
	x := contract.GuestShort{
		Address:  g.Address.String(),
		Name:     some(g.Name),
		Sponsor:  some(g.Sponsor),
		Purpose:  some(g.Purpose),
		State:    contract.GuestShortState(world.StateNames[g.State]),
		Cause:    some(g.Cause),
		Origins:  []string{},
		Since:    said(g.Since),
		LastSeen: said(g.LastSeen),
		Grants:   &held,
	}
	if m := st.Match(g.Address); m.Partner != nil {
		x.Partner = &m.Partner.ID
	}
	if g.Sponsor != "" {
		x.SponsorName = some(st.NameOf(world.Resource{Kind: catalogue.Person, ID: g.Sponsor}))
	}
	for i, n := range world.OriginNames {
		if g.Origins&(1<<i) != 0 {
			x.Origins = append(x.Origins, n)
		}
	}
	for i := range steps {
		if k := steps[i].Kind; k == dated.Suspended || k == dated.Removed || k == dated.Invitation {
			x.Ends, x.EndsWhat = ptr(steps[i].At.String()), ptr(k.String())
			x.EndsBecause = ptr(phrase.Because("en", &steps[i].Step))
			break
		}
	}
	return x
}

func (s *server) Guests(ctx context.Context, r apigen.GuestsRequestObject) (apigen.GuestsResponseObject, error) {
	p := &r.Params
	st := s.state(ctx)
	f := service.GuestFilter{
		Text:    strings.ToLower(opt(p.Q)),
		Partner: opt(p.Partner),
		Sponsor: opt(p.Sponsor),
		State:   opt(p.State),
		Origin:  opt(p.Origin),
		Space:   opt(p.Space),
		Needs:   opt(p.Needs),
		ByEnd:   opt(p.Sort) == "end",
		Until:   moment.Never,
	}
	if w := opt(p.Sort); w != "" && w != "end" && w != "address" {
		return nil, &service.Invalid{Field: "sort", Value: w, Reason: "write address or end"}
	}
	if t := opt(p.Ending); t != "" {
		m, err := moment.ParseEnd(t, s.Service.Now(), st.Zone())
		if err != nil {
			return nil, &service.Invalid{Field: "ending", Value: t, Reason: err.Error()}
		}
		f.Until = m
	}
	ownGuests(ctx, &f.Sponsor)
	find := func(ctx context.Context) (any, error) { return s.Service.FindGuests(ctx, st, &f) }
	var x any
	var err error
	if f.Needs == "mail" { // the outbox is no part of the state that results are kept for
		x, err = find(ctx)
	} else {
		x, err = s.results.get(ctx, s.key(&answer.View{At: s.Service.Now()}, st, nil, "guests", fmt.Sprint(f)), find)
	}
	if err != nil {
		return nil, err
	}
	all := x.(*service.FoundGuests)
	from, to, next, err := pageOf(
		all.Len(),
		all.Key,
		askedDigest("guests", f.Text, f.Partner, f.Sponsor, f.State, f.Origin, f.Space, f.Needs, opt(p.Sort), opt(p.Ending)),
		p.Cursor,
		p.Limit,
	)
	if err != nil {
		return nil, err
	}
	out := apigen.Guests200JSONResponse{Guests: []contract.GuestShort{}, Total: all.Len(), Next: next}
	q := st.Sequences()
	addresses := make([]string, 0, to-from)
	for i := from; i < to; i++ {
		addresses = append(addresses, all.Address(i))
	}
	guests, err := s.Service.GuestsWithGrants(ctx, addresses)
	if err != nil {
		return nil, err
	}
	for i := range guests {
		x := &guests[i]
		steps, _ := q.Of(x.Guest.Address)
		live := 0
		for k := range x.Grants {
			if moment.Within(s.Service.Now(), x.Grants[k].From, x.Grants[k].Until) {
				live++
			}
		}
		out.Guests = append(out.Guests, s.short(st, &x.Guest, live, steps))
	}
	return out, nil
}

func (s *server) Guest(ctx context.Context, r apigen.GuestRequestObject) (apigen.GuestResponseObject, error) {
	g, own, err := s.Service.Guest(ctx, r.Address)
	if err != nil {
		return nil, err
	}
	if !whoIs(ctx).AnswersFor(g.Sponsor) {
		return nil, fmt.Errorf("%w: there is no record of %s that you answer for", service.ErrNotFound, g.Address)
	}
	st := s.state(ctx)
	now := s.Service.Now()
	steps, _ := st.Sequences().Of(g.Address)
	out := apigen.Guest200JSONResponse{
		Links:      []contract.GuestLink{},
		Accepted:   said(g.Accepted),
		Renewed:    said(g.Renewed),
		Until:      said(g.Until),
		StateSince: said(g.StateSince),
		Terms:      said(g.Terms),
		Language:   some(g.Language),
		Location:   some(g.Location),
		HomeClosed: said(g.HomeClosed),
		Groups:     []string{},
		Grants:     []contract.GuestGrant{},
		Steps:      answer.DueSteps(st.Snapshot, steps),
	}
	out.Licence = some(world.LicenceNames[g.Licence])
	live := 0
	add := func(x *world.Grant, group string) {
		is := moment.Within(now, x.From, x.Until)
		if is {
			live++
		}
		out.Grants = append(
			out.Grants,
			contract.GuestGrant{
				Resource: x.Resource.String(),
				Name:     some(st.NameOf(x.Resource)),
				Role:     x.Role.String(),
				From:     said(x.From),
				Until:    said(x.Until),
				Sponsor:  some(x.Sponsor),
				Reviewed: said(x.Reviewed),
				Live:     is,
				Group:    some(group),
				Bundle:   some(x.Bundle),
			},
		)
	}
	for i := range own {
		add(&own[i], "")
	}
	groups, err := s.Service.GroupsHolding(ctx, g.Address)
	if err != nil {
		return nil, err
	}
	for i := range groups {
		out.Groups = append(out.Groups, groups[i].ID)
		given, err := s.Service.GrantsOf(ctx, "group:"+groups[i].ID)
		if err != nil {
			return nil, err
		}
		for k := range given {
			add(&given[k], groups[i].ID)
		}
	}
	links, err := s.Service.LinksFor(ctx, g.Address)
	if err != nil {
		return nil, err
	}
	for i := range links {
		l := &links[i]
		out.Links = append(out.Links, contract.GuestLink{Id: l.ID, Item: l.Item.String(), Right: l.Right.String(), Until: said(l.Until)})
	}
	if w, err := s.Service.WishOf(ctx, g.Address.String()); err != nil {
		return nil, err
	} else if w != nil && w.State == "open" {
		out.Wish = ptr(contract.Wish(wishOf(w)))
	}
	out.Short = s.short(st, g, live, steps)
	return out, nil
}

func wishOf(w *service.Wish) contract.Wish {
	return contract.Wish{Address: w.Address, Until: some(w.Until), Text: some(w.Text), Made: w.Made, State: w.State, Answer: some(w.Answer)}
}

func (s *server) Invite(ctx context.Context, r apigen.InviteRequestObject) (apigen.InviteResponseObject, error) {
	b := r.Body
	preview := r.Params.Preview != nil && *r.Params.Preview
	x, err := s.Service.Invite(
		ctx,
		whoIs(ctx),
		service.Invitation{
			List:     b.List,
			Into:     opt(b.Into),
			Role:     opt(b.Role),
			Purpose:  opt(b.Purpose),
			Text:     opt(b.Text),
			Landing:  opt(b.Landing),
			Sponsor:  opt(b.Sponsor),
			As:       opt(b.As),
			Until:    opt(b.Until),
			Language: opt(b.Language),
			Location: opt(b.Location),
			Licence:  opt(b.Licence),
		},
		preview,
	)
	if err != nil {
		return nil, err
	}
	out := apigen.Invite200JSONResponse{
		Lines:    []contract.InvitedLine{},
		Counts:   x.Counts,
		As:       x.As,
		Sponsor:  x.Sponsor,
		Into:     x.Into.String(),
		Until:    said(x.Until),
		Opens:    []contract.InvitationOpens{},
		Missing:  []string{},
		Narrower: []contract.Narrower{},
	}
	if x.Group != "" {
		out.Into = "group:" + x.Group
	}
	out.Missing = append(out.Missing, x.Missing...)
	if x.Mail != nil {
		out.Mail = &struct {
			Subject string `json:"subject"`
			Text    string `json:"text"`
		}{x.Mail.Subject, x.Mail.Text}
	}
	out.Lines = append(out.Lines, invitedLines(x.Lines)...)
	st := s.state(ctx)
	out.Opens = append(out.Opens, opens(x.Opens, "")...)
	for _, n := range x.Narrower {
		out.Narrower = append(
			out.Narrower,
			contract.Narrower{Into: n.Into, Opened: n.Opened, Role: n.Role, Text: n.Text, Until: some(n.Until)},
		)
	}
	if preview {
		v := &answer.View{Snapshot: st.Snapshot, At: s.Service.Now()}
		out.Residual = some(v.ResidualRisk())
	}
	return out, nil
}

func invitedLines(lines []service.InvitedLine) []contract.InvitedLine {
	out := []contract.InvitedLine{}
	for i := range lines {
		l := &lines[i]
		y := contract.InvitedLine{Check: answer.CheckLine(&l.Line), Name: some(l.Name)}
		if l.Done != "" {
			y.Done = ptr(contract.InvitedLineDone(l.Done))
		}
		out = append(out, y)
	}
	return out
}

// opens writes what an invitation or a link opens; whom it is for where that is no address
// stands in other.
func opens(list []service.Opens, other string) []contract.InvitationOpens {
	out := []contract.InvitationOpens{}
	for i := range list {
		o := &list[i]
		who := other
		if who == "" {
			who = o.Who.String()
		}
		granted, wide := service.Opened(o.Lines)
		out = append(
			out,
			contract.InvitationOpens{
				Of:     o.Of,
				Count:  o.Count,
				Who:    who,
				Opened: granted,
				Wide:   wide,
				Lines:  answer.WouldLines(o.Lines),
				Steps:  answer.DueSteps(o.State, o.Steps),
			},
		)
	}
	return out
}

func (s *server) ChangeGuests(ctx context.Context, r apigen.ChangeGuestsRequestObject) (apigen.ChangeGuestsResponseObject, error) {
	b := r.Body
	list, err := s.Service.ChangeGuests(
		ctx,
		whoIs(ctx),
		service.GuestChange{
			Do:        service.Do(b.Do),
			Addresses: b.Addresses,
			Reason:    opt(b.Reason),
			Until:     opt(b.Until),
			Grants:    b.Grants != nil && *b.Grants,
			Resource:  opt(b.Resource),
			Role:      opt(b.Role),
			Sponsor: opt(
				b.Sponsor,
			),
			Name:     b.Name,
			Purpose:  b.Purpose,
			Language: b.Language,
			Location: b.Location,
			Licence:  b.Licence,
		},
		r.Params.Preview != nil && *r.Params.Preview,
	)
	if err != nil {
		return nil, err
	}
	out := apigen.ChangeGuests200JSONResponse{Guests: []contract.GuestChanged{}}
	st := s.state(ctx)
	for i := range list {
		c := &list[i]
		x := contract.GuestChanged{Address: c.Address, Name: some(c.Name), Done: c.Done, Reason: some(c.Reason)}
		if c.State != nil {
			x.Was, x.Will, x.Lost, x.Gained = ptr(answer.DueSteps(st.Snapshot, c.Was)), ptr(answer.DueSteps(c.State, c.Will)), &c.Lost, &c.Gained
		}
		out.Guests = append(out.Guests, x)
	}
	return out, nil
}

func (s *server) MergeGuests(ctx context.Context, r apigen.MergeGuestsRequestObject) (apigen.MergeGuestsResponseObject, error) {
	m, err := s.Service.MergeGuests(
		ctx,
		whoIs(ctx),
		r.Body.From,
		r.Body.Into,
		opt(r.Body.Reason),
		r.Params.Preview != nil && *r.Params.Preview,
	)
	if err != nil {
		return nil, err
	}
	out := apigen.MergeGuests200JSONResponse{
		From:   m.From,
		Into:   m.Into,
		Grants: m.Grants,
		Groups: m.Groups,
		Was:    m.Was,
		Will:   m.Will,
		Gained: []contract.Gained{},
		Steps:  answer.DueSteps(m.State, m.Steps),
	}
	for i := range m.Gained {
		l := &m.Gained[i]
		out.Gained = append(out.Gained, contract.Gained{Action: l.Action.String(), Name: some(l.Name), Resource: l.Resource.String()})
	}
	return out, nil
}
