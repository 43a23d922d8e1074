package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

var (
	ruleSignIn = catalogue.MustRule("directory.sign_in")
	ruleTerms  = catalogue.MustRule("directory.terms")
	byCode     = methodOf("code")
	byPartner  = methodOf("partner")
	termsDue   = func() catalogue.Value {
		v, err := ruleTerms.Get().Scale.Parse("required")
		if err != nil {
			panic(err)
		}
		return v
	}()
)

func methodOf(name string) catalogue.Value {
	v, err := ruleSignIn.Get().Scale.Parse(name)
	if err != nil {
		panic(err)
	}
	return v
}

// ErrTooMany is returned for who asks for codes too often.
var ErrTooMany = errors.New("too often; wait and try again")

// GuestName is the name of a guest in the journal and in sessions.
func GuestName(address string) string { return "guest:" + address }

// GuestOf returns the record of a guest whose session began with a journal entry, as an
// account; ErrDenied where they may no longer sign in, or could not for some time since.
func (s *Service) GuestOf(ctx context.Context, name string, since uint64) (Who, error) {
	address, ok := strings.CutPrefix(name, "guest:")
	if !ok {
		return Who{}, ErrDenied
	}
	a, err := addr.Parse(address)
	if err != nil || !s.maySignIn(a) {
		return Who{}, ErrDenied
	}
	names := []string{name, "barred:" + address}
	for d := a.Domain().String(); d != ""; _, d, _ = strings.Cut(d, ".") {
		names = append(names, "barred:"+d)
	}
	if m := s.State().Match(a); m.Partner != nil {
		names = append(names, "partner:"+m.Partner.ID)
	}
	if err := s.stillIn(ctx, since, names...); err != nil {
		return Who{}, err
	}
	return Who{Name: name, Role: RoleGuest, Guest: address, Since: since}, nil
}

// isGuest reports whether somebody has a record.
func isGuest(k engine.Kind) bool { return k == engine.KindGuest || k == engine.KindProvisioned }

// maySignIn asks the decision that it is.
func (s *Service) maySignIn(a addr.Address) bool {
	act, _ := catalogue.ActionByName("directory.sign_in")
	st := s.State()
	if !isGuest(st.KindAt(a, s.Now())) {
		return false
	}
	v, err := st.Decide(
		&engine.Question{
			Subject:  engine.Who{Address: a},
			Action:   act.ID,
			Resource: world.Resource{Kind: catalogue.OurDirectory, ID: "ours"},
			At:       s.Now(),
		},
	)
	return err == nil && v.Yes
}

// newcomer reports how an address without a record may come to have one by proving that it
// is theirs: something was given to it by name that makes it a guest (files and reports, by
// grant or named link), or outsiders may sign up. It is no origin where neither is so. The
// sponsor is whoever answers for what was given.
func (s *Service) newcomer(ctx context.Context, st *State, a addr.Address) (origin world.Origin, sponsor string, err error) {
	now := s.Now()
	if k := st.KindAt(a, now); k != engine.KindFederated && k != engine.KindPersonal {
		return 0, "", nil
	}
	lines, _, err := st.Reach(engine.Who{Address: a}, now)
	if err != nil {
		return 0, "", err
	}
	for i := range lines {
		if lines[i].Yes && lines[i].Conditions&catalogue.BecomesGuest != 0 {
			origin = world.ByShare
			break
		}
	}
	if origin != 0 {
		own, err := s.given(ctx, st, a.String())
		if err != nil {
			return 0, "", err
		}
		links, err := s.LinksFor(ctx, a)
		if err != nil {
			return 0, "", err
		}
		for i := range links {
			own = append(own, world.Grant{From: moment.Always, Until: links[i].Until, Sponsor: links[i].By})
		}
		for i := range own {
			if g := &own[i]; sponsor == "" && g.Sponsor != "" && moment.Within(now, g.From, g.Until) && st.Has("person", g.Sponsor) &&
				st.LeftAt(g.Sponsor) == 0 {
				sponsor = g.Sponsor
			}
		}
	}
	act, _ := catalogue.ActionByName("directory.sign_up")
	v, err := st.Decide(
		&engine.Question{
			Subject:  engine.Who{Address: a},
			Action:   act.ID,
			Resource: world.Resource{Kind: catalogue.OurDirectory, ID: "ours"},
			At:       now,
		},
	)
	if err == nil && v.Yes {
		origin |= world.BySignUp
	}
	return origin, sponsor, err
}

// becomeGuest makes the record of a newcomer who proved who they are, with what they answered to the questions of
// signing up.
func (s *Service) becomeGuest(ctx context.Context, a addr.Address, language, said string) error {
	return s.change(ctx, GuestName(a.String()), "signed up", func(now *State, t *store.Tx) error {
		if g, err := s.guestNow(now, t, a, s.Now()); err != nil || g != nil { // in another window, a moment ago
			return err
		}
		origin, sponsor, err := s.newcomer(ctx, now, a)
		if err != nil || origin == 0 {
			return errors.Join(err, ErrDenied)
		}
		if origin&world.ByShare != 0 {
			origin = world.ByShare // it was given something; that it might have signed up too says nothing
			t.Because("came in to what was given to this address")
		}
		return putNewcomer(t, a, origin, sponsor, language, said, s.Now())
	})
}

// putNewcomer writes the record of an outsider who comes by themselves.
func putNewcomer(t *store.Tx, a addr.Address, origin world.Origin, sponsor, language, said string, at moment.Moment) error {
	_, err := t.PutGuest(
		&world.Guest{
			Address:    a,
			Sponsor:    sponsor,
			Purpose:    said,
			State:      world.StateActive,
			Origins:    origin,
			Since:      at,
			Accepted:   at,
			LastSeen:   at,
			Language:   language,
			Renewed:    moment.Always,
			Until:      moment.Never,
			Terms:      moment.Never,
			StateSince: moment.Always,
		},
	)
	return err
}

// DoorInvited is what the link of an invitation tells to whoever holds it.
type DoorInvited struct {
	Organisation, By, Masked, Language string
	address                            addr.Address
}

// OpenDoor tells about an invitation by the secret of its link, without spending it: mail
// filters open links too.
func (s *Service) OpenDoor(ctx context.Context, key string) (*DoorInvited, error) {
	address, err := s.store.DoorKey(ctx, sha256.Sum256([]byte(key)), s.Now())
	if err != nil {
		return nil, err
	}
	if address == "" {
		return nil, fmt.Errorf("%w: the link was used already or has ended", ErrNotFound)
	}
	a, err := addr.Parse(address)
	if err != nil {
		return nil, err
	}
	if g, err := s.store.Guest(ctx, a.String()); err != nil || g == nil || !s.stillInvited(g) { // taken back, or lapsed
		return nil, errors.Join(err, fmt.Errorf("%w: the link was used already or has ended", ErrNotFound))
	}
	out := &DoorInvited{Masked: mask(a), Language: Languages[0], address: a}
	if o := s.State().Policy().Organisation; o != nil {
		out.Organisation = o.Name
	}
	if doc, err := s.store.Record(ctx, "invitation", address); err == nil && doc != nil {
		var inv invitation
		if json.Unmarshal(doc, &inv) == nil {
			out.Language = inv.Language
			if p, err := s.Person(ctx, inv.By); err == nil {
				out.By = p.Name
			}
		}
	}
	return out, nil
}

// SigningIn is somebody at the door: from where, with which browser, and whom they say they are.
type SigningIn struct {
	Browser  string // what its cookie says; a code is of use to the browser alone that asked for it
	Source   string // from where it came, for limits and the journal
	Key      string // the secret of an invitation's link, or
	Address  string
	Language string // of the page
	Join     string // the course of ours that they come to join
}

func (k *SigningIn) door(a addr.Address) store.Door {
	return store.Door{Address: a.String(), Browser: sha256.Sum256([]byte(k.Browser))}
}

// doorAddress finds whom somebody at the door means: by the secret of a link, or by address.
func (s *Service) doorAddress(ctx context.Context, k *SigningIn) (addr.Address, error) {
	key, address := k.Key, k.Address
	if key != "" {
		inv, err := s.OpenDoor(ctx, key)
		if err != nil {
			return addr.Address{}, err
		}
		return inv.address, nil
	}
	a, err := addr.Parse(strings.TrimSpace(address))
	if err != nil {
		return a, &Invalid{"address", address, err.Error()}
	}
	return a, nil
}

// AskCode mails a one-time code to an address that may sign in, or that would become a guest
// by it, and does as much for one that may not, so that nobody can tell them apart. The
// language is that of the page where there is no record that says one.
func (s *Service) AskCode(ctx context.Context, k SigningIn) error {
	if err := oneOfWords("language", k.Language, Languages...); err != nil {
		return err
	}
	a, err := s.doorAddress(ctx, &k)
	if err != nil {
		return err
	}
	now := s.Now()
	all, here, err := s.store.AskDoor(ctx, a.String(), k.Source, now-3600e6, now)
	if err != nil {
		return err
	}
	if here > codesAsked || all > codesAskedAll {
		return ErrTooMany
	}
	// Whether it may have one is asked when it would be sent: who asks waits as long for any
	// address, and learns nothing from that either. Until then there stands what no code
	// hashes to, so that a wrong code costs as much for any address.
	d := k.door(a)
	var salt [16]byte
	var none [32]byte
	_, _ = rand.Read(salt[:])
	_, _ = rand.Read(none[:])
	if err := s.store.PutDoorCode(ctx, d, salt, none, now+moment.Moment(codeLasts.Microseconds())); err != nil {
		return err
	}
	_, err = s.store.Post(
		ctx,
		&store.Message{
			MessageID: newMessageID(s.State().Host()),
			Recipient: a.String(),
			Kind:      "code",
			Doc:       []byte(jsonOf(map[string]string{"language": k.Language, "browser": hex.EncodeToString(d.Browser[:]), "join": k.Join})),
			Made:      now,
			Due:       now,
		},
	)
	return err
}

// signsInBy reports whether the rules let an address sign in in a way.
func (s *State) signsInBy(a addr.Address, way catalogue.Value) bool {
	return s.GuestRule(a, "", ruleSignIn)&way != 0
}

// mayHaveCode reports whether a one-time code lets an address in, or into a course.
func (s *Service) mayHaveCode(ctx context.Context, a addr.Address, join string) (bool, error) {
	st := s.State()
	if join != "" && s.mayJoin(st, a, join) {
		return true, nil
	}
	if !st.signsInBy(a, byCode) {
		return false, nil
	}
	if s.maySignIn(a) {
		return true, nil
	}
	if origin, _, err := s.newcomer(ctx, st, a); err != nil || origin != 0 {
		return origin != 0, err
	}
	return s.mayAskForBundle(ctx, a)
}

// Prove signs a guest in who sends the code that was mailed to them. Wrong, used, ended and
// never asked for are the same answer.
func (s *Service) Prove(ctx context.Context, k SigningIn, code string) (Entered, error) {
	if err := oneOfWords("language", k.Language, Languages...); err != nil {
		return Entered{}, err
	}
	a, err := s.doorAddress(ctx, &k)
	if err != nil {
		return Entered{}, err
	}
	d := k.door(a)
	salt, hash, ok, err := s.store.TryDoorCode(ctx, d, codeTries, s.Now())
	if err != nil {
		return Entered{}, err
	}
	given := codeHash(salt, plainCode(code))
	if !ok || subtle.ConstantTimeCompare(given[:], hash) != 1 {
		return Entered{}, s.refusedGuest(ctx, a, WayCode, k.Source)
	}
	if ok, err = s.store.SpendDoorCode(ctx, d, hash); err != nil || !ok {
		return Entered{}, errors.Join(err, ErrDenied)
	}
	return s.Proved(ctx, a, k, WayCode)
}

// refusedGuest writes to the journal that somebody at the door was refused, whether the
// address is known or not, and returns ErrDenied.
func (s *Service) refusedGuest(ctx context.Context, a addr.Address, way, from string) error {
	id := GuestName(a.String())
	if g, err := s.store.Guest(ctx, a.String()); err != nil {
		return err
	} else if g == nil {
		id = unknownName
	}
	err := s.change(ctx, id, "", func(_ *State, t *store.Tx) error {
		_, err := signedIn(t, strings.TrimPrefix(id, "guest:"), way, from, false)
		return err
	})
	return errors.Join(err, ErrDenied)
}

// SeenGuest lets a guest in who proved who they are, and notes it, once a day. A newcomer
// gets a record by it.
func (s *Service) SeenGuest(ctx context.Context, a addr.Address, language, way, from string) (Who, error) {
	if !s.maySignIn(a) {
		if err := s.becomeGuest(ctx, a, language, ""); err != nil {
			return Who{}, err
		}
	}
	var since uint64
	err := s.change(ctx, GuestName(a.String()), "signed in", func(now *State, t *store.Tx) error {
		g, err := s.guestNow(now, t, a, s.Now())
		if err != nil {
			return err
		}
		if g == nil {
			return ErrDenied
		}
		if zone := now.Zone(); g.State != world.StateInvited &&
			(g.LastSeen == moment.Always || moment.DayOf(g.LastSeen, zone) != moment.DayOf(s.Now(), zone)) {
			g.LastSeen = s.Now()
			if _, err = t.PutGuest(g); err != nil {
				return err
			}
		}
		if way != WayPasskey {
			if err := s.keepPasskeys(t, g, s.Now()); err != nil {
				return err
			}
		}
		since, err = signedIn(t, a.String(), way, from, true)
		return err
	})
	return Who{Name: GuestName(a.String()), Role: RoleGuest, Guest: a.String(), Since: since}, err
}

// PartnerSignIn is the sign-in of a partner's own, as the policy names it.
type PartnerSignIn struct {
	Partner, Name, Issuer, Client string
	Unverified                    bool // addresses count without being called verified
}

// SignInOf returns the partner's own sign-in for an address; ErrNotFound where its partner
// has none or the rules do not take it. It tells of domains alone, not of who is known.
func (s *Service) SignInOf(address string) (*PartnerSignIn, error) {
	a, err := addr.Parse(strings.TrimSpace(address))
	if err != nil {
		return nil, &Invalid{"address", address, err.Error()}
	}
	st := s.State()
	m := st.Match(a)
	if m.Partner == nil || m.Bar != nil || m.Partner.SignIn == "" || !st.signsInBy(a, byPartner) {
		return nil, fmt.Errorf("%w: sign in with a code that we mail to you", ErrNotFound)
	}
	return &PartnerSignIn{m.Partner.ID, m.Partner.Name, m.Partner.SignIn, m.Partner.SignInClient, m.Partner.SignInUnverified}, nil
}

// PartnerProved signs a guest in whom their partner's own sign-in named: the address must
// be at a domain of that partner.
func (s *Service) PartnerProved(ctx context.Context, partner string, k SigningIn) (Entered, error) {
	in, err := s.SignInOf(k.Address)
	if err != nil || in.Partner != partner {
		return Entered{}, ErrDenied
	}
	a, err := addr.Parse(strings.TrimSpace(k.Address))
	if err != nil {
		return Entered{}, ErrDenied
	}
	return s.Proved(ctx, a, k, WayPartner)
}
