package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Steps that somebody at the door meets who proved an address.
const (
	DoorQuestions = "questions" // they answer, then they come in or somebody decides
	DoorWaiting   = "waiting"   // somebody decides
	DoorRefused   = "refused"   // somebody said no
	DoorJoined    = "joined"    // they are in the course that they came to join
	DoorBundles   = "bundles"   // there are bundles that they may ask for
)

// Step is what somebody at the door meets who proved an address and has no page of a guest.
type Step struct {
	Kind      string
	Questions []string      // to answer; with DoorRefused again, if they like
	Since     moment.Moment // when they asked, of DoorWaiting and DoorRefused
	Answer    string        // why not, of DoorRefused
	Space     string        // the course's name, of DoorJoined
	Role      catalogue.Role
}

// Entered is what became of somebody at the door: they are in as Who, or they meet a step first.
type Entered struct {
	Who
	Step    *Step
	Address string // proved
}

// SignUp is what an outsider answered who wants a record of their own.
type SignUp struct {
	Address  string   `json:"address"`
	Language string   `json:"language"`
	Asked    []string `json:"asked"`
	Said     []string `json:"said"`
}

// words joins questions and answers to what is kept as the purpose of a record.
func (x *SignUp) words() string {
	var out []string
	for i := range x.Said {
		out = append(out, x.Asked[i]+" "+x.Said[i])
	}
	return cmp.Or(strings.Join(out, "; "), "signs up")
}

// Proved lets somebody in who proved an address: into the course that they came to join, onto their page, or to
// what signing up asks first.
func (s *Service) Proved(ctx context.Context, a addr.Address, k SigningIn, way string) (Entered, error) {
	here := way != WayCode || s.State().signsInBy(a, byCode) // a code that came for a course opens nothing else
	if k.Join != "" {
		step, err := s.join(ctx, a, k.Join)
		if err != nil || !here || !s.maySignIn(a) {
			return Entered{Step: step, Address: a.String()}, err
		}
	} else if !here {
		return Entered{}, ErrDenied
	}
	step, err := s.signUpStep(ctx, a, k.Language)
	if err == nil && step == nil {
		step, err = s.bundleStep(ctx, a)
	}
	if err != nil || step != nil {
		return Entered{Step: step, Address: a.String()}, err
	}
	who, err := s.SeenGuest(ctx, a, k.Language, way, k.Source)
	return Entered{Who: who, Address: a.String()}, err
}

// signUpStep tells what an address that signs up meets before it has a record; nil for who has one, who becomes a
// guest by what was given to them, and where nothing is asked.
func (s *Service) signUpStep(ctx context.Context, a addr.Address, language string) (*Step, error) {
	st := s.State()
	set := st.Policy().SettingsNow().SignUp
	if s.maySignIn(a) || !set.Waits() {
		return nil, nil
	}
	origin, _, err := s.newcomer(ctx, st, a)
	if err != nil || origin != world.BySignUp {
		return nil, err
	}
	out := &Step{Kind: DoorQuestions, Questions: slices.Clone(set.In(language))}
	var last *Request
	err = s.store.Naming(ctx, "request", `"by":`+jsonText(GuestName(a.String())), func(_ string, doc []byte) error {
		r, err := requestOf(doc)
		if err == nil && r.SignUp != nil && r.SignUp.Address == a.String() && r.State != RequestWorks &&
			(last == nil || last.over() && (!r.over() || r.Made > last.Made)) {
			last = r
		}
		return err
	})
	if err != nil || last == nil {
		return out, err
	}
	out.Kind = DoorWaiting
	if out.Since, err = moment.Parse(last.Made); err != nil {
		return nil, err
	}
	if last.State == RequestRefused {
		out.Kind, out.Answer = DoorRefused, last.Answer
	} else {
		out.Questions = nil
	}
	return out, nil
}

// bundleStep leads somebody who has no page of a guest, and does not come to have one by themselves, to the bundles that they may
// ask for; nil for everybody else.
func (s *Service) bundleStep(ctx context.Context, a addr.Address) (*Step, error) {
	if s.maySignIn(a) {
		return nil, nil
	}
	if origin, _, err := s.newcomer(ctx, s.State(), a); err != nil || origin != 0 {
		return nil, err
	}
	if may, err := s.mayAskForBundle(ctx, a); err != nil || !may {
		return nil, err
	}
	return &Step{Kind: DoorBundles}, nil
}

// StepOf tells what somebody at the door meets who proved an address a moment ago; ErrDenied where there is
// nothing.
func (s *Service) StepOf(ctx context.Context, address, language string) (*Step, error) {
	if err := oneOfWords("language", language, Languages...); err != nil {
		return nil, err
	}
	a, err := addr.Parse(address)
	if err != nil {
		return nil, ErrDenied
	}
	step, err := s.signUpStep(ctx, a, language)
	if err == nil && step == nil {
		step, err = s.bundleStep(ctx, a)
	}
	if err == nil && step == nil {
		err = ErrDenied
	}
	return step, err
}

// SignUp takes the answers of somebody who proved an address: they have a record then, or whoever decides is asked.
func (s *Service) SignUp(ctx context.Context, k SigningIn, way string, said []string) (Entered, error) {
	step, err := s.StepOf(ctx, k.Address, k.Language)
	if err != nil {
		return Entered{}, err
	}
	a, err := addr.Parse(k.Address)
	if err != nil {
		return Entered{}, ErrDenied
	}
	if step.Kind == DoorWaiting || step.Kind == DoorBundles {
		return Entered{Step: step, Address: a.String()}, nil
	}
	x := &SignUp{Address: a.String(), Language: k.Language, Asked: step.Questions, Said: []string{}}
	if len(said) != len(x.Asked) {
		return Entered{}, &Invalid{"answers", fmt.Sprint(len(said)), fmt.Sprintf("answer every question, %d of them", len(x.Asked))}
	}
	for i, text := range said {
		if text = strings.TrimSpace(text); text == "" || len(text) > 500 {
			return Entered{}, &Invalid{fmt.Sprintf("answers[%d]", i), text, "answer in 1 to 500 letters: " + x.Asked[i]}
		}
		x.Said = append(x.Said, text)
	}
	if s.State().Policy().SettingsNow().SignUp.By == "" {
		if err := s.becomeGuest(ctx, a, k.Language, x.words()); err != nil {
			return Entered{}, err
		}
		who, err := s.SeenGuest(ctx, a, k.Language, way, k.Source)
		return Entered{Who: who, Address: a.String()}, err
	}
	who := Who{Name: GuestName(a.String()), Role: RoleGuest, Guest: a.String()}
	purpose := x.words()
	if len(purpose) > 1000 {
		purpose = strings.ToValidUTF8(purpose[:1000], "")
	}
	_, err = s.askFor(ctx, who, purpose, func(old *Request) bool { return old.SignUp != nil },
		func(now *State, t *store.Tx, r *Request) error {
			r.SignUp, r.Title, r.To = x, "Let "+a.String()+" in as a guest", []string{"administrator"}
			by := now.Policy().SettingsNow().SignUp.By
			if text := now.AddressOf(by); text != "" && now.LeftAt(by) == 0 {
				r.To = []string{"owner:" + by}
				if to, err := addr.Parse(text); err == nil {
					return s.postMail(t, now, to, "sign_up", "request "+r.ID, map[string]string{"request": r.ID})
				}
			}
			return nil
		})
	if err != nil && !errors.Is(err, ErrConflict) { // in another window, a moment ago
		return Entered{}, err
	}
	step, err = s.StepOf(ctx, a.String(), k.Language)
	return Entered{Step: step, Address: a.String()}, err
}

// letSignUp makes the record that somebody at the door asks for, whom whoever does it answers for; with preview it
// is told what would be open to them.
func (s *Service) letSignUp(now *State, t *store.Tx, who Who, r *Request, preview bool) (*PlacesChanged, error) {
	a, err := addr.Parse(r.SignUp.Address)
	if err != nil {
		return nil, err
	}
	at := s.Now()
	if isGuest(now.KindAt(a, at)) {
		return nil, fmt.Errorf("%w: %s has a record already", ErrConflict, a)
	}
	origin, _, err := s.newcomer(t.Context(), now, a)
	if err != nil {
		return nil, err
	}
	if origin == 0 {
		return nil, fmt.Errorf("%w: the rules no longer let %s sign up; why not is the answer to: %s directory.sign_up directory:ours",
			ErrConflict, a, a)
	}
	would, _, err := now.Would(engine.Suppose{Address: a, Record: true}, at)
	if err != nil {
		return nil, err
	}
	w := &ValueWeighed{Loosens: true}
	if w.Granted.Gained, w.Wide.Gained = Opened(would); w.Granted.Gained+w.Wide.Gained > 0 {
		w.Parties.Gained = 1
	}
	w.Lines = mayThen(would)
	out := &PlacesChanged{Lines: []PlaceLine{{PlaceEdit: PlaceEdit{Do: DoAdd, Kind: "guest", ID: a.String()}, Result: "added"}}, Weighed: w}
	if preview {
		return out, errPreview
	}
	sponsor := cmp.Or(who.Person, now.Policy().SettingsNow().SignUp.By)
	if sponsor != "" && (!now.Has("person", sponsor) || now.LeftAt(sponsor) != 0) {
		sponsor = ""
	}
	return out, putNewcomer(t, a, origin, sponsor, r.SignUp.Language, r.Purpose, at)
}

// mayJoin reports whether an address may join a course of ours by itself.
func (s *Service) mayJoin(st *State, a addr.Address, space string) bool {
	act, _ := catalogue.ActionByName("spaces.join")
	v, err := st.Decide(&engine.Question{Subject: engine.Who{Address: a}, Action: act.ID,
		Resource: world.Resource{Kind: catalogue.Space, ID: space}, At: s.Now()})
	return err == nil && v.Yes
}

// join gives who proved an address the role that a course gives to who joins it. ErrDenied for what is no course of
// ours, or not theirs to join: which of them is not told to strangers.
func (s *Service) join(ctx context.Context, a addr.Address, space string) (*Step, error) {
	out := &Step{Kind: DoorJoined}
	err := s.change(ctx, GuestName(a.String()), "joined by themselves", func(now *State, t *store.Tx) error {
		doc, err := t.Record("space", space)
		if err != nil {
			return err
		}
		if doc == nil || !s.mayJoin(now, a, space) {
			return ErrDenied
		}
		course, err := worldfile.SpaceOf(doc)
		if err != nil {
			return err
		}
		r := world.Resource{Kind: catalogue.Space, ID: space}
		out.Space, out.Role = cmp.Or(course.Name, space), cmp.Or(course.JoinsAs, catalogue.View)
		own, err := t.Grants(a.String())
		if err != nil {
			return err
		}
		at := s.Now()
		for i := range own {
			if g := &own[i]; g.Resource == r && g.Role >= out.Role && moment.Within(at, g.From, g.Until) { // in already
				out.Role = g.Role
				return errPreview
			}
		}
		_, err = t.PutGrant(&world.Grant{Address: a, Resource: r, Role: out.Role, From: at, Until: moment.Never, Sponsor: now.OwnerOf(space),
			Reviewed: moment.Always})
		return err
	})
	if errors.Is(err, errPreview) {
		err = nil
	}
	return out, err
}
