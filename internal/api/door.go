package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"sort"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

func requestOf(ctx context.Context) *http.Request { return ctx.Value(requestKey).(*http.Request) }

// doorOften refuses who tries the door too often from one place.
func (s *server) doorOften(ctx context.Context, what string) error {
	if s.doorTries.allow(what+" from "+sourceOf(ctx), s.Clock()) {
		return nil
	}
	return service.ErrTooMany
}

func (s *server) Door(context.Context, apigen.DoorRequestObject) (apigen.DoorResponseObject, error) {
	out := apigen.Door200JSONResponse{Languages: service.Languages}
	if o := s.Service.State().Policy().Organisation; o != nil {
		out.Organisation = o.Name
	}
	return out, nil
}

func (s *server) DoorOpen(ctx context.Context, r apigen.DoorOpenRequestObject) (apigen.DoorOpenResponseObject, error) {
	if err := s.doorOften(ctx, "link"); err != nil {
		return nil, err
	}
	x, err := s.Service.OpenDoor(ctx, r.Body.Key)
	if err != nil {
		return nil, err
	}
	return apigen.DoorOpen200JSONResponse{Organisation: x.Organisation, By: x.By, Masked: x.Masked, Language: x.Language}, nil
}

func (s *server) DoorCode(ctx context.Context, r apigen.DoorCodeRequestObject) (apigen.DoorCodeResponseObject, error) {
	if err := s.doorOften(ctx, "code"); err != nil {
		return nil, err
	}
	k := service.SigningIn{Key: opt(r.Body.Key), Address: opt(r.Body.Address), Language: opt(r.Body.Language), Join: opt(r.Body.Join),
		Source: sourceOf(ctx)}
	if k.Browser = s.doors.GetString(ctx, "browser"); k.Browser == "" {
		k.Browser = rand.Text()
		s.doors.Put(ctx, "browser", k.Browser)
	}
	if err := s.doorTouched(ctx); err != nil {
		return nil, err
	}
	return apigen.DoorCode202Response{}, s.Service.AskCode(ctx, k)
}

// doorTouched keeps what is known of a browser at the door for as long again.
func (s *server) doorTouched(ctx context.Context) error {
	s.doors.SetDeadline(ctx, time.Now().Add(s.doors.Lifetime).UTC())
	return save(ctx, s.doors)
}

func (s *server) DoorProve(ctx context.Context, r apigen.DoorProveRequestObject) (apigen.DoorProveResponseObject, error) {
	if err := s.doorOften(ctx, "proof"); err != nil {
		return nil, err
	}
	x, err := s.Service.Prove(
		ctx,
		service.SigningIn{
			Browser:  s.doors.GetString(ctx, "browser"),
			Key:      opt(r.Body.Key),
			Address:  opt(r.Body.Address),
			Language: opt(r.Body.Language),
			Join:     opt(r.Body.Join),
			Source:   sourceOf(ctx),
		},
		r.Body.Code,
	)
	if err != nil {
		return nil, err
	}
	if x.Step != nil {
		return apigen.DoorProve202JSONResponse(stepOut(&x)), s.doorProved(ctx, x.Address, service.WayCode)
	}
	if err := s.letIn(ctx, x.Who); err != nil {
		return nil, err
	}
	return apigen.DoorProve200JSONResponse(s.session(ctx, x.Who)), nil
}

// provedHolds is how long a browser may go on with an address that was proved in it.
const provedHolds = 30 * time.Minute

// doorProved remembers which address was proved in this browser, and how.
func (s *server) doorProved(ctx context.Context, address, way string) error {
	s.doors.Put(ctx, "proved", address)
	s.doors.Put(ctx, "proved_way", way)
	s.doors.Put(ctx, "proved_at", s.Clock().Unix())
	return s.doorTouched(ctx)
}

func stepOut(x *service.Entered) contract.DoorStep {
	out := contract.DoorStep{Step: contract.DoorStepStep(x.Step.Kind), Address: x.Address, Answer: some(x.Step.Answer),
		Space: some(x.Step.Space)}
	if len(x.Step.Questions) > 0 {
		out.Questions = &x.Step.Questions
	}
	if x.Step.Since != 0 {
		out.Since = ptr(x.Step.Since.String())
	}
	if x.Step.Role != catalogue.NoRole {
		out.Role = ptr(contract.DoorStepRole(x.Step.Role.String()))
	}
	return out
}

func (s *server) DoorSignUp(ctx context.Context, r apigen.DoorSignUpRequestObject) (apigen.DoorSignUpResponseObject, error) {
	if err := s.doorOften(ctx, "sign-up"); err != nil {
		return nil, err
	}
	who, err := s.provedHere(ctx)
	if err != nil {
		return nil, err
	}
	k := service.SigningIn{Address: who.Guest, Language: opt(r.Body.Language), Source: sourceOf(ctx)}
	if joined := s.doors.PopString(ctx, "joined"); joined != "" && r.Body.Answers == nil {
		x := service.Entered{Step: &service.Step{Kind: service.DoorJoined, Space: joined}, Address: k.Address}
		return apigen.DoorSignUp202JSONResponse(stepOut(&x)), s.doorTouched(ctx)
	}
	if r.Body.Answers == nil {
		step, err := s.Service.StepOf(ctx, k.Address, k.Language)
		if err != nil {
			return nil, err
		}
		return apigen.DoorSignUp202JSONResponse(stepOut(&service.Entered{Step: step, Address: k.Address})), nil
	}
	x, err := s.Service.SignUp(ctx, k, s.doors.GetString(ctx, "proved_way"), *r.Body.Answers)
	if err != nil {
		return nil, err
	}
	if x.Step != nil {
		return apigen.DoorSignUp202JSONResponse(stepOut(&x)), nil
	}
	if err := s.letIn(ctx, x.Who); err != nil {
		return nil, err
	}
	return apigen.DoorSignUp200JSONResponse(s.session(ctx, x.Who)), nil
}

// letIn begins the session of a guest.
func (s *server) letIn(ctx context.Context, who service.Who) error {
	if err := s.doors.Destroy(ctx); err != nil {
		return err
	}
	if err := save(ctx, s.doors); err != nil {
		return err
	}
	return s.begin(ctx, who)
}

// partners keeps for some minutes what partners' own sign-ins say of themselves.
type partners struct {
	sync.Mutex
	byIssuer map[string]knownIssuer
}

type knownIssuer struct {
	*oidc.Provider
	until time.Time
}

// partnerHolds is how long what a partner's sign-in says of itself is not asked for again. Its
// keys are asked for as they are needed.
const partnerHolds = 10 * time.Minute

// relying returns us as a relying party of a partner's sign-in (OpenID Connect Core §3.1).
func (s *server) relying(ctx context.Context, in *service.PartnerSignIn) (*oidc.Provider, *oauth2.Config, error) {
	p, err := s.provider(ctx, in.Issuer, s.secure)
	if err != nil {
		return nil, nil, err
	}
	return p, &oauth2.Config{
		ClientID:    in.Client,
		Endpoint:    p.Endpoint(),
		RedirectURL: s.base(requestOf(ctx)) + "/api/v1/door/back",
		Scopes:      []string{oidc.ScopeOpenID, "email"},
	}, nil
}

// provider returns what a sign-in says of itself, which is kept for some minutes. secure says why an address of its is not taken.
func (s *server) provider(ctx context.Context, issuer string, secure func(what, address string) error) (*oidc.Provider, error) {
	s.partners.Lock()
	known, ok := s.partners.byIssuer[issuer]
	s.partners.Unlock()
	if ok && s.Clock().Before(known.until) {
		return known.Provider, nil
	}
	if err := secure("the issuer", issuer); err != nil {
		return nil, err
	}
	// The provider keeps this context for the keys it asks for later.
	p, err := oidc.NewProvider(context.WithoutCancel(ctx), issuer)
	if err != nil {
		return nil, err
	}
	var said struct {
		Authorize string `json:"authorization_endpoint"`
		Token     string `json:"token_endpoint"`
		Keys      string `json:"jwks_uri"`
	}
	if err := p.Claims(&said); err != nil {
		return nil, err
	}
	if err := errors.Join(secure("authorization_endpoint", said.Authorize), secure("token_endpoint", said.Token),
		secure("jwks_uri", said.Keys)); err != nil {
		return nil, err
	}
	s.partners.Lock()
	if s.partners.byIssuer == nil || len(s.partners.byIssuer) > 1000 {
		s.partners.byIssuer = map[string]knownIssuer{}
	}
	s.partners.byIssuer[issuer] = knownIssuer{p, s.Clock().Add(partnerHolds)}
	s.partners.Unlock()
	return p, nil
}

// secure is an error for an address that is not https, outside a demo.
func (s *server) secure(what, address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "https" && !(u.Scheme == "http" && s.Fetcher.AllowHTTP) {
		return fmt.Errorf("%s %q of a sign-in is no https address", what, address)
	}
	return nil
}

func (s *server) DoorPartner(ctx context.Context, r apigen.DoorPartnerRequestObject) (apigen.DoorPartnerResponseObject, error) {
	if err := s.doorOften(ctx, "partner"); err != nil {
		return nil, err
	}
	in, err := s.Service.SignInOf(opt(r.Body.Address))
	if err != nil {
		return nil, err
	}
	_, cfg, err := s.relying(s.outgoing(ctx), in)
	if err != nil {
		s.Log.WarnContext(ctx, "a partner's sign-in does not answer", "issuer", in.Issuer, "error", err)
		return nil, &service.Invalid{
			Field:  "address",
			Value:  opt(r.Body.Address),
			Reason: "the sign-in of " + in.Name + " does not answer now; ask for a code instead",
		}
	}
	state, nonce, verifier := rand.Text(), rand.Text(), oauth2.GenerateVerifier()
	for k, v := range map[string]string{"oidc_state": state, "oidc_nonce": nonce, "oidc_verifier": verifier, "oidc_partner": in.Partner,
		"oidc_address": opt(r.Body.Address), "oidc_join": opt(r.Body.Join), "oidc_language": opt(r.Body.Language)} {
		s.doors.Put(ctx, k, v)
	}
	if err := s.doorTouched(ctx); err != nil {
		return nil, err
	}
	// The address helps the partner's page and proves nothing.
	to := cfg.AuthCodeURL(
		state,
		oidc.Nonce(nonce),
		oauth2.S256ChallengeOption(verifier),
		oauth2.SetAuthURLParam("login_hint", opt(r.Body.Address)),
	)
	return apigen.DoorPartner200JSONResponse{Go: to, Name: in.Name}, nil
}

// outgoing is a context for calls to a partner, which are bounded in time and size.
func (s *server) outgoing(ctx context.Context) context.Context {
	return oidc.ClientContext(ctx, s.Fetcher.Client())
}

func (s *server) DoorBack(ctx context.Context, r apigen.DoorBackRequestObject) (apigen.DoorBackResponseObject, error) {
	failed := func(why string) (apigen.DoorBackResponseObject, error) {
		return apigen.DoorBack302Response{Headers: apigen.DoorBack302ResponseHeaders{Location: ptr("/door?failed=" + why)}}, nil
	}
	state, partner := s.doors.GetString(ctx, "oidc_state"), s.doors.GetString(ctx, "oidc_partner")
	if state == "" || subtle.ConstantTimeCompare([]byte(opt(r.Params.State)), []byte(state)) != 1 {
		return failed("again")
	}
	s.doors.Remove(ctx, "oidc_state") // once
	if err := save(ctx, s.doors); err != nil {
		return nil, err
	}
	if opt(r.Params.Error) != "" || opt(r.Params.Code) == "" {
		return failed("refused")
	}
	in, err := s.Service.SignInOf(s.doors.GetString(ctx, "oidc_address"))
	if err != nil || in.Partner != partner {
		return failed("again")
	}
	out := s.outgoing(ctx)
	p, cfg, err := s.relying(out, in)
	if err != nil {
		return failed("away")
	}
	t, err := cfg.Exchange(out, opt(r.Params.Code), oauth2.VerifierOption(s.doors.GetString(ctx, "oidc_verifier")))
	if err != nil {
		s.Log.WarnContext(ctx, "a partner's sign-in did not take its code", "issuer", in.Issuer, "error", err)
		return failed("refused")
	}
	raw, _ := t.Extra("id_token").(string)
	id, err := p.Verifier(&oidc.Config{ClientID: in.Client, Now: s.Clock}).Verify(out, raw)
	if err != nil || id.Nonce != s.doors.GetString(ctx, "oidc_nonce") {
		s.Log.WarnContext(ctx, "a partner's sign-in sent a token that does not hold", "issuer", in.Issuer, "error", err)
		return failed("refused")
	}
	var claims struct {
		Email    string `json:"email"`
		Verified *bool  `json:"email_verified"`
	}
	if err := id.Claims(&claims); err != nil || claims.Email == "" {
		return failed("refused")
	}
	if claims.Verified != nil && !*claims.Verified || claims.Verified == nil && !in.Unverified {
		s.Log.WarnContext(ctx, "a partner's sign-in does not say that it verified the address", "issuer", in.Issuer)
		return failed("unverified")
	}
	x, err := s.Service.PartnerProved(ctx, partner, service.SigningIn{Address: claims.Email, Join: s.doors.GetString(ctx, "oidc_join"),
		Language: s.doors.GetString(ctx, "oidc_language"), Source: sourceOf(ctx)})
	if errors.Is(err, service.ErrDenied) {
		return failed("unknown")
	}
	if err != nil {
		return nil, err
	}
	if x.Step != nil {
		if x.Step.Kind == service.DoorJoined { // told to the page that it leads to, and not by its address, which anybody may write
			s.doors.Put(ctx, "joined", x.Step.Space)
		}
		if err := s.doorProved(ctx, x.Address, service.WayPartner); err != nil {
			return nil, err
		}
		return apigen.DoorBack302Response{Headers: apigen.DoorBack302ResponseHeaders{Location: ptr("/door?step=" + x.Step.Kind)}}, nil
	}
	if err := s.letIn(ctx, x.Who); err != nil {
		return nil, err
	}
	return apigen.DoorBack302Response{Headers: apigen.DoorBack302ResponseHeaders{Location: ptr("/own")}}, nil
}

func (s *server) Own(ctx context.Context, _ apigen.OwnRequestObject) (apigen.OwnResponseObject, error) {
	who := whoIs(ctx)
	g, own, err := s.Service.Guest(ctx, who.Guest)
	if err != nil {
		return nil, err
	}
	st, now := s.Service.State(), s.Service.Now()
	language := g.Language
	if language == "" {
		language = service.Languages[0]
	}
	out := apigen.Own200JSONResponse{
		Address:       g.Address.String(),
		Name:          some(g.Name),
		State:         world.StateNames[g.State],
		Language:      language,
		Purpose:       some(g.Purpose),
		Terms:         st.Terms(language),
		TermsOwed:     st.TermsOwed(g, now),
		Accepted:      said(g.Accepted),
		TermsAccepted: said(g.Terms),
		Landing:       some(s.Service.LandingOf(ctx, who.Guest)),
		MayLeave:      s.Service.MayLeave(g.Address),
	}
	if o := st.Policy().Organisation; o != nil {
		out.Organisation = o.Name
	}
	if p, err := s.Service.Person(ctx, g.Sponsor); err == nil {
		out.Sponsor, out.SponsorAddress = some(p.Name), some(p.Address.String())
	}
	if w, err := s.Service.WishOf(ctx, who.Guest); err != nil {
		return nil, err
	} else if w != nil {
		out.Wish = ptr(wishOf(w))
	}
	snapshot := st.Snapshot
	if g.State == world.StateInvited { // what will be open
		e := snapshot.Aside()
		e.Activate(g.Address, now)
		snapshot = e.Done()
	}
	steps, _ := snapshot.Sequences().Of(g.Address)
	for i := range steps {
		if k := steps[i].Kind; k == dated.Suspended || k == dated.Invitation {
			out.Until, out.UntilBecause = ptr(moment.CountedOnFrom(steps[i].At, st.Zone()).String()), ptr(steps[i].Cause.String())
			break
		}
	}
	lines, _, err := snapshot.Reach(engine.Who{Address: g.Address}, now)
	if err != nil {
		return nil, err
	}
	links, err := s.Service.LinksFor(ctx, g.Address)
	if err != nil {
		return nil, err
	}
	for i := range links { // what a link gives by name stands beside what was granted
		own = append(own, world.Grant{Resource: links[i].Item, Role: links[i].Right, From: links[i].Created, Until: links[i].Until})
	}
	places(&out, st, snapshot, own, lines, now)
	return out, nil
}

// places tells what somebody can do, place by place: a space with what is in it.
func places(
	out *apigen.Own200JSONResponse,
	st *service.State,
	s *engine.Snapshot,
	own []world.Grant,
	lines []engine.ReachLine,
	now moment.Moment,
) {
	type placed struct {
		name, role string
		until      moment.Moment
		can        map[string]bool
		items      []string
	}
	by := map[string]*placed{}
	var order []string
	at := func(space string) *placed {
		p := by[space]
		if p == nil {
			p = &placed{name: s.NameOf(world.Resource{Kind: catalogue.Space, ID: space}), until: moment.Never, can: map[string]bool{}}
			by[space] = p
			order = append(order, space)
		}
		return p
	}
	more := map[string]bool{}
	seen := map[string]bool{}
	for i := range lines {
		l := &lines[i]
		if !l.Yes {
			continue
		}
		space := ""
		switch {
		case l.Resource.Kind == catalogue.Space:
			space = l.Resource.ID
		case l.Resource.Kind.IsItem():
			space = s.SpaceOf(l.Resource.ID)
		}
		if space == "" {
			if svc := l.Action.Get().Service().String(); svc == "chat" || svc == "meetings" || svc == "mail" {
				more[l.Action.String()] = true
			}
			continue
		}
		p := at(space)
		p.can[l.Action.String()] = true
		if l.Resource.Kind.IsItem() && !seen[l.Resource.String()] {
			seen[l.Resource.String()] = true
			p.items = append(p.items, l.Name)
		}
	}
	for i := range own {
		g := &own[i]
		if !moment.Within(now, g.From, g.Until) {
			continue
		}
		space := g.Resource.ID
		if g.Resource.Kind != catalogue.Space {
			space = s.SpaceOf(space)
		}
		if p := by[space]; p != nil {
			if r, _ := catalogue.ParseRole(p.role); g.Role > r {
				p.role = g.Role.String()
			}
			if g.Until < p.until {
				p.until = g.Until
			}
		}
	}
	out.Places = []contract.OwnPlace{}
	sort.Slice(order, func(i, j int) bool { return by[order[i]].name < by[order[j]].name })
	for _, id := range order {
		p := by[id]
		can := words(p.can)
		var until *string
		if p.until.IsSet() {
			until = ptr(moment.CountedOnFrom(p.until, st.Zone()).String())
		}
		sort.Strings(p.items)
		out.Places = append(out.Places, contract.OwnPlace{Can: can, Items: &p.items, Name: p.name, Role: some(p.role), Until: until})
	}
	list := words(more)
	out.More = &list
}

func words(set map[string]bool) []string {
	out := make([]string, 0, len(set))
	for k := range set {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func (s *server) OwnAccept(ctx context.Context, r apigen.OwnAcceptRequestObject) (apigen.OwnAcceptResponseObject, error) {
	return apigen.OwnAccept204Response{}, s.Service.AcceptGuest(ctx, whoIs(ctx), r.Body.Terms != nil && *r.Body.Terms, opt(r.Body.Name))
}

func (s *server) OwnMore(ctx context.Context, r apigen.OwnMoreRequestObject) (apigen.OwnMoreResponseObject, error) {
	w, err := s.Service.WishMore(ctx, whoIs(ctx), opt(r.Body.Until), r.Body.Text)
	if err != nil {
		return nil, err
	}
	return apigen.OwnMore200JSONResponse(wishOf(w)), nil
}

func (s *server) OwnLanguage(ctx context.Context, r apigen.OwnLanguageRequestObject) (apigen.OwnLanguageResponseObject, error) {
	return apigen.OwnLanguage204Response{}, s.Service.SpeakGuest(ctx, whoIs(ctx), r.Body.Language)
}

func (s *server) OwnLeave(ctx context.Context, _ apigen.OwnLeaveRequestObject) (apigen.OwnLeaveResponseObject, error) {
	if err := s.Service.LeaveGuest(ctx, whoIs(ctx)); err != nil {
		return nil, err
	}
	if err := s.sessions.Destroy(ctx); err != nil {
		return nil, err
	}
	return apigen.OwnLeave204Response{}, s.saveSession(ctx)
}
