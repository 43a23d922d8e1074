package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// BundleAsked is a bundle that is asked for, as it is kept with a request (practice §1).
type BundleAsked struct {
	Bundle   string     `json:"bundle"`
	Address  string     `json:"address"` // who is to hold it
	Language string     `json:"language,omitempty"`
	Sponsor  string     `json:"sponsor,omitempty"` // a person of ours whom they named
	Asked    []string   `json:"asked,omitempty"`
	Said     []string   `json:"said,omitempty"`
	Until    string     `json:"until"` // the end that was asked for, or what an approval made of it
	Less     []Less     `json:"less,omitempty"`
	Steps    []Approval `json:"steps"`
	Never    []string   `json:"never,omitempty"`    // deputies of whoever asked, who do not approve it
	Reminded int        `json:"reminded,omitempty"` // after how many days those who decide were reminded
}

// Less is a resource of a bundle that is given with a lower role, or, where none is said, not at all.
type Less struct {
	Resource string `json:"resource"`
	Role     string `json:"role,omitempty"`
}

// Approval is one step of approving: who may take it, and who did.
type Approval struct {
	By    string   `json:"by"`  // as the bundle says it
	Who   []string `json:"who"` // as Request.To has them: owner:ID for a person, keeper, administrator
	Given string   `json:"given,omitempty"`
	At    string   `json:"at,omitempty"`
	For   string   `json:"for,omitempty"` // who is away, for whom it was given
}

// States of a request for a bundle besides open, refused and works, which is when it was approved.
const (
	RequestWithdrawn RequestState = "withdrawn"
	RequestLapsed    RequestState = "lapsed"
)

// BundleAsk is what somebody says who asks for a bundle.
type BundleAsk struct {
	Bundle, Address, Language, Sponsor string
	Answers                            []string
	Purpose                            string
	Until                              string // empty: as long as the bundle's term
}

// fits reports whether somebody may take a step of approving, and for whom, where that one is away, has left or must not decide.
func (s *State) fits(x *BundleAsked, a *Approval, who Who) (of string, ok bool) {
	left := 0
	for _, w := range a.Who {
		switch id, person := strings.CutPrefix(w, "owner:"); {
		case who.Approves(w):
			return "", true
		case !person:
		case who.DeputyOf(id):
			of, ok = id, true
		case who.TakesOver(id) || slices.Contains(x.Never, id) || !s.Has("person", id) || s.LeftAt(id) != 0:
			left++
		}
	}
	if !ok && left == len(a.Who) && who.Keeps() { // nobody is left
		return strings.TrimPrefix(a.Who[0], "owner:"), true
	}
	return of, ok
}

// step is the first step of approving that nobody took; nil where all are taken.
func (x *BundleAsked) step() *Approval {
	for i := range x.Steps {
		if x.Steps[i].Given == "" {
			return &x.Steps[i]
		}
	}
	return nil
}

// self reports whether somebody asked, would get it, or is the deputy of whoever asked: they do not approve it.
func (s *State) self(r *Request, who Who) bool {
	return r.By == who.Name || who.Person != "" && (r.Person == who.Person || s.AddressOf(who.Person) == r.Bundle.Address ||
		slices.Contains(r.Bundle.Never, who.Person)) ||
		r.Person != "" && who.DeputyOf(r.Person)
}

// MayApprove reports whether somebody may take the next step of approving a bundle that is asked for.
func (s *State) MayApprove(r *Request, who Who) bool {
	step := r.Bundle.step()
	if r.over() || step == nil || s.self(r, who) {
		return false
	}
	_, ok := s.fits(r.Bundle, step, who)
	return ok
}

// approvals are the steps of approving a bundle that is asked for: of each, everybody who may take it. Who asked and who would
// get it are in none; where that leaves nobody, a keeper decides.
func (s *State) approvals(b *world.Bundle, x *BundleAsked, asker string, at moment.Moment) []Approval {
	may := func(id string) bool {
		return id != "" && id != asker && !slices.Contains(x.Never, id) && s.Has("person", id) && s.LeftAt(id) == 0 &&
			s.AddressOf(id) != x.Address
	}
	var out []Approval
	add := func(by string, people ...string) {
		a := Approval{By: by}
		for _, id := range people {
			if may(id) && !slices.Contains(a.Who, "owner:"+id) {
				a.Who = append(a.Who, "owner:"+id)
			}
		}
		if len(a.Who) == 0 {
			a.Who = []string{cmp.Or(map[string]string{world.ByAdministrator: by}[by], world.ByKeeper)}
		}
		if !slices.ContainsFunc(out, func(o Approval) bool { return slices.Equal(o.Who, a.Who) }) {
			out = append(out, a)
		}
	}
	sponsor := x.Sponsor
	if !may(sponsor) { // nobody named, or nobody who could
		sponsor = ""
	}
	for _, step := range s.ApprovalSteps(b, sponsor, at) {
		add(step.By, step.People...)
	}
	return out
}

// Term is until when a bundle may be given at most, from a moment on.
func (s *State) Term(b *world.Bundle, at moment.Moment) moment.Moment {
	if b.TermDays == catalogue.Unset || b.TermDays == catalogue.NoLimit {
		return moment.Never
	}
	return moment.EndOfDays(moment.DayOf(at, s.Zone()), int(b.TermDays), s.Zone())
}

// BundleShut says why an address may not be given a bundle; "" where it may.
func (s *State) BundleShut(b *world.Bundle, a addr.Address, at moment.Moment) (string, error) {
	if k := s.KindAt(a, at); k == engine.KindPerson {
		return fmt.Sprintf("%s is no address of somebody outside.", a), nil
	}
	if len(b.Gives) == 0 { // kept before that was refused
		return fmt.Sprintf("The bundle %s gives nothing.", b.Name), nil
	}
	if !s.BundleFor(b, a) {
		return fmt.Sprintf("The bundle %s is not for people of %s.", b.Name, a.Domain()), nil
	}
	if other := s.HeldInstead(b, a, at); other != nil {
		return fmt.Sprintf("%s holds the bundle %s, beside which nobody holds %s.", a, other.Name, b.Name), nil
	}
	return s.notInvitable(b, a, at)
}

// notInvitable says why the rules do not let an address be invited to what a bundle gives, whoever invites: the approval stands
// in for who may invite.
func (s *State) notInvitable(b *world.Bundle, a addr.Address, at moment.Moment) (string, error) {
	list, nobody := s.BundleQuestions(b, a, at)
	if nobody != nil {
		return fmt.Sprintf("Nobody answers for %s.", cmp.Or(s.NameOf(*nobody), nobody.String())), nil
	}
	for i := range list {
		x, err := s.Explain(&list[i])
		if err != nil {
			return "", err
		}
		for _, c := range x.Deciding().Refusals() {
			if c.Why == 0 { // a suspended record is brought back
				return c.Text(), nil
			}
		}
	}
	return "", nil
}

// BundleFor is a bundle as it stands for one address.
type BundleFor struct {
	*world.Bundle
	Shut    string         // why it may not be asked for, or empty
	Holding *world.Holding // what they hold of it now or will, or nil
	Open    *Request       // what they asked for and nobody answered, or nil
}

// BundlesFor lists the bundles that an address may ask for, holds or has asked for, and what became of what it asked for before.
func (s *Service) BundlesFor(ctx context.Context, a addr.Address) (out []BundleFor, past []Request, err error) {
	st, at := s.State(), s.Now()
	open := map[string]*Request{}
	err = s.store.Naming(ctx, "request", `"by":`+jsonText(GuestName(a.String())), func(_ string, doc []byte) error {
		r, err := requestOf(doc)
		if err != nil || r.Bundle == nil || r.By != GuestName(a.String()) {
			return err
		}
		if r.over() {
			past = append(past, *r)
		} else {
			open[r.Bundle.Bundle] = r
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	slices.SortFunc(past, func(x, y Request) int { return -cmp.Compare(x.Made, y.Made) })
	held := st.Holdings(a)
	for i := range st.Policy().Bundles {
		b := BundleFor{Bundle: &st.Policy().Bundles[i]}
		for k := range held {
			if held[k].Bundle == b.ID && held[k].Until > at {
				b.Holding = &held[k]
			}
		}
		b.Open = open[b.ID]
		if b.Shut, err = st.BundleShut(b.Bundle, a, at); err != nil {
			return nil, nil, err
		}
		if b.Shut == "" && b.Closed {
			b.Shut = "It is closed: nobody asks for it any more."
		}
		if b.Shut == "" || b.Holding != nil || b.Open != nil {
			out = append(out, b)
		}
	}
	return out, past, nil
}

// mayAskForBundle reports whether there is any bundle that an address might ask for, or has asked for.
func (s *Service) mayAskForBundle(ctx context.Context, a addr.Address) (bool, error) {
	if len(s.State().Policy().Bundles) == 0 {
		return false, nil
	}
	list, _, err := s.BundlesFor(ctx, a)
	return len(list) > 0, err
}

// readAsk checks what is asked for, and completes it.
func (s *Service) readAsk(now *State, a addr.Address, b *world.Bundle, x *BundleAsk, at moment.Moment) (*BundleAsked, error) {
	out := &BundleAsked{Bundle: b.ID, Address: a.String(), Language: x.Language, Sponsor: x.Sponsor, Asked: b.Questions, Said: []string{}}
	if x.Language != "" {
		if err := oneOfWords("language", x.Language, Languages...); err != nil {
			return nil, err
		}
	}
	if len(x.Answers) != len(b.Questions) {
		return nil, &Invalid{"answers", fmt.Sprint(len(x.Answers)),
			fmt.Sprintf("answer every question of the bundle, %d of them", len(b.Questions))}
	}
	for i, text := range x.Answers {
		if text = strings.TrimSpace(text); text == "" || len(text) > 500 {
			return nil, &Invalid{fmt.Sprintf("answers[%d]", i), text, "answer in 1 to 500 letters: " + b.Questions[i]}
		}
		out.Said = append(out.Said, text)
	}
	until, err := now.bundleUntil(b, x.Until, at)
	out.Until = until.String()
	return out, err
}

// bundleUntil reads until when a bundle is to be given; empty is as long as it may be.
func (s *State) bundleUntil(b *world.Bundle, text string, at moment.Moment) (moment.Moment, error) {
	most := s.Term(b, at)
	if text == "" {
		return most, nil
	}
	until, err := endOf(text, at, s)
	switch {
	case err != nil:
		return 0, err
	case until <= at:
		return 0, &Invalid{"until", text, "it lies before now"}
	case until > most:
		return 0, &Invalid{"until", text, fmt.Sprintf("the bundle is given for at most %s days: until %s",
			catalogue.Scale{Shape: catalogue.Days}.Format(b.TermDays), most)}
	}
	return until, nil
}

// AskBundle asks for a bundle, for oneself or for somebody outside. Whoever holds it already asks for it to be extended; where the
// bundle says so, that is done at once.
func (s *Service) AskBundle(ctx context.Context, who Who, x BundleAsk) (*Request, error) {
	a, err := addr.Parse(x.Address)
	if err != nil || a.IsNewcomer() {
		return nil, &Invalid{"address", x.Address, "write the address of whoever is to hold it"}
	}
	same := func(old *Request) bool {
		return old.Bundle != nil && old.Bundle.Bundle == x.Bundle && old.Bundle.Address == a.String()
	}
	return s.askFor(ctx, who, x.Purpose, same, func(now *State, t *store.Tx, r *Request) error {
		at := s.Now()
		b, err := now.Bundle(x.Bundle)
		if err != nil {
			return err
		}
		if b.Closed {
			return fmt.Errorf("%w: the bundle %s is closed: nobody asks for it any more", ErrConflict, b.Name)
		}
		if why, err := now.BundleShut(b, a, at); err != nil || why != "" {
			return cmp.Or(err, fmt.Errorf("%w: %s", ErrConflict, why))
		}
		if r.Bundle, err = s.readAsk(now, a, b, &x, at); err != nil {
			return err
		}
		held, err := heldNow(t, now, a)
		if err != nil {
			return err
		}
		k := slices.IndexFunc(held, func(h world.Holding) bool { return h.Bundle == b.ID && h.Until > at })
		if k >= 0 && r.Bundle.Sponsor == "" {
			r.Bundle.Sponsor = held[k].Sponsor
		}
		if r.Bundle.Sponsor == "" {
			if g, err := s.guestNow(now, t, a, at); err != nil {
				return err
			} else if g != nil {
				r.Bundle.Sponsor = g.Sponsor
			}
		}
		r.Title = titleOf(b, a, k >= 0)
		if k >= 0 {
			if b.Silent && who.Guest == a.String() {
				r.State, r.Closer, r.Closed = RequestWorks, who.Name, at.String()
				return s.giveBundle(now, t, r, b, at)
			}
		}
		away, err := s.aways(ctx)
		if err != nil {
			return err
		}
		if x := away.of[who.Person]; x != nil && x.Deputy != "" {
			r.Bundle.Never = []string{x.Deputy}
		}
		r.Bundle.Steps = now.approvals(b, r.Bundle, who.Person, at)
		return s.askStep(now, t, r)
	})
}

// titleOf says what is asked for.
func titleOf(b *world.Bundle, a addr.Address, held bool) string {
	if held {
		return fmt.Sprintf("Extend the bundle %s for %s", b.Name, a)
	}
	return fmt.Sprintf("Give %s the bundle %s", a, b.Name)
}

// askStep asks those of the next step of approving.
func (s *Service) askStep(now *State, t *store.Tx, r *Request) error {
	step := r.Bundle.step()
	r.To = slices.Clone(step.Who)
	deciding, err := s.decide(t.Context(), now, step.Who, r.Bundle.Never)
	if err != nil {
		return err
	}
	people, err := s.peopleBehind(t.Context(), deciding)
	if err != nil {
		return err
	}
	for _, id := range people {
		if to, err := addr.Parse(now.AddressOf(id)); err == nil {
			if err := s.postMail(t, now, to, "bundle_asked", fmt.Sprintf("request %s %s %d", r.ID, id, r.Bundle.Reminded),
				map[string]string{"request": r.ID}); err != nil {
				return err
			}
		}
	}
	return nil
}

// peopleBehind lists the persons of ours who are named, or who sign in as keepers or administrators, by their id; where no keeper can, the
// administrators.
func (s *Service) peopleBehind(ctx context.Context, who []string) (people []string, err error) {
	var accounts []store.Account
	for _, w := range who {
		if id, person := strings.CutPrefix(w, "owner:"); person {
			people = append(people, id)
			continue
		}
		if accounts == nil {
			if accounts, err = s.store.Accounts(ctx); err != nil {
				return nil, err
			}
		}
		as := func(role Role) (out []string) {
			for _, a := range accounts {
				if !a.Disabled && a.Person != "" && a.Role == string(role) {
					out = append(out, a.Person)
				}
			}
			return out
		}
		found := as(Administrator)
		if keepers := as(Keeper); w == world.ByKeeper && len(keepers) > 0 {
			found = keepers
		}
		people = append(people, found...)
	}
	slices.Sort(people)
	return slices.Compact(people), nil
}

// BundleApproval is what whoever approves makes of what was asked for: an earlier end, and what is given less.
type BundleApproval struct {
	Until string
	Less  []Less
}

// approveBundle takes the steps of approving that somebody may take; after the last one the bundle is given.
func (s *Service) approveBundle(ctx context.Context, who Who, id, why string, preview bool, c BundleApproval) (*PlacesChanged, error) {
	var out *PlacesChanged
	err := s.changing(ctx, who.Name, why, preview, func(now *State, t *store.Tx) error {
		r, err := requestIn(t, id)
		if err != nil {
			return err
		}
		if r.over() { // somebody else was first
			return fmt.Errorf("%w: the request %s is over: %s", ErrConflict, r.ID, r.State)
		}
		at := s.Now()
		x := r.Bundle
		b, err := now.Bundle(x.Bundle)
		if err != nil {
			return fmt.Errorf("%w: the bundle is no more", ErrConflict)
		}
		a, err := addr.Parse(x.Address)
		if err != nil {
			return err
		}
		if now.self(r, who) {
			return fmt.Errorf("%w: nobody approves what they asked for, or would get", ErrForbidden)
		}
		next := x.step()
		if _, ok := now.fits(x, next, who); !ok {
			return fmt.Errorf("%w: it is approved by %s", ErrForbidden, now.toInWords(next.Who))
		}
		if why, err := now.BundleShut(b, a, at); err != nil || why != "" {
			return cmp.Or(err, fmt.Errorf("%w: %s", ErrConflict, why))
		}
		if err := now.narrow(b, x, &c, at); err != nil {
			return err
		}
		for i := range x.Steps { // one approval is good for every step that its giver fits
			if st := &x.Steps[i]; st.Given == "" {
				if of, ok := now.fits(x, st, who); ok {
					st.Given, st.At, st.For = who.Name, at.String(), of
				}
			}
		}
		h := x.holding(a, at)
		would, _, err := now.Would(engine.Suppose{Address: a, Record: true, Grants: b.Grants(h)}, at)
		if err != nil {
			return err
		}
		w := &ValueWeighed{Loosens: true}
		if w.Granted.Gained, w.Wide.Gained = Opened(would); w.Granted.Gained+w.Wide.Gained > 0 {
			w.Parties.Gained = 1
		}
		w.Lines = mayThen(would)
		out = &PlacesChanged{Lines: []PlaceLine{{PlaceEdit: PlaceEdit{Do: DoAdd, Kind: "holding", ID: h.Key()}, Result: "added"}}, Weighed: w}
		if next := x.step(); next != nil {
			w.Lines = append(w.Lines, "Then "+now.toInWords(next.Who)+" decides")
			if preview {
				return errPreview
			}
			if err := s.askStep(now, t, r); err != nil {
				return err
			}
			return putRequest(t, r)
		}
		if preview {
			return errPreview
		}
		r.State, r.Closer, r.Closed, r.Heard = RequestWorks, who.Name, at.String(), false
		if err := s.giveBundle(now, t, r, b, at); err != nil {
			return err
		}
		if err := putRequest(t, r); err != nil {
			return err
		}
		return s.tellAsker(now, t, r)
	})
	return out.weighed(err)
}
