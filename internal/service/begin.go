package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"sync"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/pattern"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// beginning is the one-time key with which the first administrator of an installation is made. It
// lives in this process alone, and works while there is no account.
type beginning struct {
	sync.Mutex
	sum   [32]byte
	until moment.Moment
}

// beginsFor is how long a key for the first administrator works.
const beginsFor = moment.Moment(24 * 60 * 60 * 1_000_000)

// OpenBeginning draws the key for the first administrator; "" where there is an account already. A
// key that was drawn before ends.
func (s *Service) OpenBeginning(ctx context.Context) (key string, err error) {
	begun, err := s.Begun(ctx)
	if err != nil || begun {
		return "", err
	}
	b := make([]byte, 24)
	_, _ = rand.Read(b)
	key = base64.RawURLEncoding.EncodeToString(b)
	s.begin.Lock()
	defer s.begin.Unlock()
	s.begin.sum, s.begin.until = sha256.Sum256([]byte(key)), s.Now()+beginsFor
	return key, nil
}

// Begun reports whether the installation has an account.
func (s *Service) Begun(ctx context.Context) (bool, error) {
	list, err := s.store.Accounts(ctx)
	return len(list) > 0, err
}

// Begin makes the first administrator for whoever holds the key.
func (s *Service) Begin(ctx context.Context, key, name, password string) error {
	if !worldfile.ValidID(name) {
		return &Invalid{"name", name, "lower-case letters, digits, dots, hyphens and underscores"}
	}
	sum := sha256.Sum256([]byte(key))
	s.begin.Lock()
	right := s.begin.until > s.Now() && subtle.ConstantTimeCompare(sum[:], s.begin.sum[:]) == 1
	s.begin.Unlock()
	if begun, err := s.Begun(ctx); err != nil {
		return err
	} else if begun {
		return fmt.Errorf("%w: there is an administrator already; sign in", ErrConflict)
	}
	if !right {
		return fmt.Errorf("%w: this address does not work; take the one that wexillum start printed last", ErrForbidden)
	}
	if err := goodPassword("password", password, name); err != nil {
		return err
	}
	hash := HashPassword(password)
	err := s.change(ctx, name, "the first administrator", func(_ *State, t *store.Tx) error {
		if list, err := s.store.Accounts(ctx); err != nil {
			return err
		} else if len(list) > 0 { // meanwhile
			return fmt.Errorf("%w: there is an administrator already; sign in", ErrConflict)
		}
		return t.PutAccount(store.Account{Name: name, Role: string(Administrator), Password: hash}, true)
	})
	if err == nil {
		s.begin.Lock()
		s.begin.until = 0
		s.begin.Unlock()
	}
	return err
}

// Occurring is a domain at which records are and which nobody has listed.
type Occurring struct {
	Domain string
	Guests int
}

// Start is how far an installation has been set up.
type Start struct {
	Organisation string // empty where nothing is said of it yet
	People       int
	Guests       int
	Spaces       int
	Partners     int
	Domains      []Occurring // of guests who belong to no partner, the most frequent first; at most 50
	Posture      string      // whose defaults all count; empty for none
}

// Started tells how far the installation has been set up.
func (s *Service) Started(ctx context.Context) (*Start, error) {
	st := s.State()
	c := st.Counts()
	out := &Start{People: c.People, Guests: c.Guests, Spaces: c.Spaces, Partners: c.Partners, Posture: st.posture()}
	if o := st.Policy().Organisation; o != nil {
		out.Organisation = o.Name
	}
	for d, n := range st.Unlisted() {
		out.Domains = append(out.Domains, Occurring{d, n})
	}
	sort.Slice(out.Domains, func(i, j int) bool {
		a, b := out.Domains[i], out.Domains[j]
		return a.Guests > b.Guests || a.Guests == b.Guests && a.Domain < b.Domain
	})
	out.Domains = out.Domains[:min(len(out.Domains), 50)]
	return out, nil
}

// posture names the posture whose defaults all count; empty for none.
func (s *State) posture() string {
	for i := range pattern.Postures() {
		p := &pattern.Postures()[i]
		all := true
		for _, r := range p.Rules {
			_, def, _, _ := s.RuleState(r.Rule)
			all = all && def == r.Default
		}
		if all {
			return p.Name
		}
	}
	return ""
}

// DraftPosture makes a draft that takes an organisation to a posture. Defaults that the limits do not
// let it have are left as they are.
func (s *Service) DraftPosture(ctx context.Context, who, name string) (id string, err error) {
	p, ok := pattern.PostureNamed(name)
	if !ok {
		var names []string
		for _, p := range pattern.Postures() {
			names = append(names, p.Name)
		}
		return "", fmt.Errorf("%w: there is no posture %q; there are %s", ErrNotFound, name, strings.Join(names, ", "))
	}
	return s.MakeDraftOf(ctx, who, "Posture: "+strings.ToLower(p.Title), p.Says, func(now *State) (*world.World, error) {
		w := &world.World{}
		for _, r := range p.Rules {
			limit, def, _, _ := now.RuleState(r.Rule)
			if def != r.Default && !r.Rule.Get().Scale.Looser(r.Default, limit) {
				w.Rules = append(w.Rules, r)
			}
		}
		if len(w.Rules) == 0 {
			return nil, fmt.Errorf("%w: the organisation stands there already", ErrConflict)
		}
		return world.Merge(now.Policy(), w), nil
	})
}

// SettingsDoc is what the policy says of the organisation and of the service itself, as the file
// format has it: {"organisation": …, "settings": …}.
func (s *State) SettingsDoc() []byte {
	m := map[string]json.RawMessage{}
	w := s.Policy()
	if w.Organisation != nil {
		m["organisation"] = json.RawMessage(worldfile.OrganisationDoc(w.Organisation))
	}
	set := w.SettingsNow()
	m["settings"] = json.RawMessage(worldfile.SettingsDoc(&set))
	b, _ := json.Marshal(m)
	return b
}

// PatchSettings changes what a merge patch (RFC 7396) of SettingsDoc names.
func (s *Service) PatchSettings(ctx context.Context, who, why string, patch []byte, ifMatch string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		was := now.SettingsDoc()
		if ifMatch != "" && ifMatch != Etag(was) {
			return nil, ErrStale
		}
		doc, err := mergePatch(was, patch)
		if err != nil {
			return nil, &Invalid{"body", string(patch), "write a JSON object with the fields that are to be otherwise"}
		}
		text := append([]byte(`{"wexillum": "1", `), doc[1:]...)
		part, err := worldfile.Read(text, worldfile.Options{Now: s.Now(), Known: now})
		if err != nil {
			return nil, settingError(string(text), patch, err)
		}
		var named struct{ Organisation, Settings json.RawMessage }
		_ = json.Unmarshal(patch, &named)
		if named.Organisation == nil { // what is not named is not touched
			part.Organisation = nil
		}
		if named.Settings == nil {
			part.Settings = nil
		}
		return world.Merge(now.Policy(), part), nil
	})
}

// settingError names the setting that an error of what was read is about: the last one of the patch
// that the text names before it.
func settingError(text string, patch []byte, err error) error {
	var es worldfile.Errors
	var parts map[string]json.RawMessage
	if !errors.As(err, &es) || len(es) == 0 || json.Unmarshal(patch, &parts) != nil {
		return err
	}
	field, value, last := "settings", string(patch), -1
	before := text[:min(len(text), es[0].Col)]
	for part, raw := range parts {
		var fields map[string]json.RawMessage
		if json.Unmarshal(raw, &fields) != nil {
			continue
		}
		for name, v := range fields {
			if i := strings.LastIndex(before, jsonText(name)+":"); i > last {
				last, field, value = i, part+"."+name, strings.Trim(string(v), `[]"`)
			}
		}
	}
	return &Invalid{field, value, strings.TrimPrefix(es[0].Msg, field[strings.Index(field, ".")+1:]+": ")}
}

// PostureRule is a default that a posture sets, and what it was.
type PostureRule struct {
	Rule     *catalogue.Rule
	Was, Set catalogue.Value
	Can      bool // the limit allows it
}

// PostureRules lists what a posture would change.
func (s *State) PostureRules(p *pattern.Posture) (out []PostureRule) {
	for _, r := range p.Rules {
		limit, def, _, _ := s.RuleState(r.Rule)
		if def != r.Default {
			out = append(out, PostureRule{r.Rule.Get(), def, r.Default, !r.Rule.Get().Scale.Looser(r.Default, limit)})
		}
	}
	return
}
