package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/may"
	"wexillum.example/internal/secret"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// HouseSignIn is the organisation's own sign-in for people of ours (OpenID Connect): who signs in there has an account here, whose role
// comes from what it says of them, and never more than that.
type HouseSignIn struct {
	Issuer string            `json:"issuer"`        // as https://id.house.example
	Client string            `json:"client"`        // as whom we are known there
	Key    string            `json:"key,omitempty"` // where the secret of that is: file:PATH or env:NAME; empty for a public client
	Claim  string            `json:"claim"`         // what of a token names roles, as groups
	Roles  map[string]string `json:"roles"`         // value of the claim: role here
	// Trusted says that the second factor is that sign-in's own business. Without it, roles that have to have one come in only where
	// the token says that more than a password was asked (amr, RFC 8176).
	Trusted bool   `json:"trusted,omitempty"`
	By      string `json:"by"`
	Made    string `json:"made"`
}

const (
	houseKind = "house_sign_in"
	houseID   = "house"
	// WayHouse is the way of signing in by the organisation's own sign-in.
	WayHouse = "house"
)

// houseRoles are the roles of people, the mightiest first.
var houseRoles = []Role{Administrator, Keeper, Auditor, Member}

// House finds how the organisation's own sign-in is set; nil where there is none.
func (s *Service) House(ctx context.Context) (*HouseSignIn, error) {
	doc, err := s.store.Record(ctx, houseKind, houseID)
	if err != nil || doc == nil {
		return nil, err
	}
	x := &HouseSignIn{}
	return x, json.Unmarshal(doc, x)
}

// OfHouse reports whether the organisation's own sign-in vouches for an account.
func (s *Service) OfHouse(ctx context.Context, account string) (bool, error) {
	a, err := s.store.Account(ctx, account)
	return err == nil && a.Subject != "", err
}

// Secret reads the secret of the client; empty where it is a public one.
func (x *HouseSignIn) Secret() (string, error) {
	if x.Key == "" {
		return "", nil
	}
	return secret.At(x.Key)
}

func (x *HouseSignIn) check() error {
	x.Issuer = strings.TrimSpace(x.Issuer)
	if _, err := serverAddress("issuer", x.Issuer); err != nil {
		return err
	}
	if x.Client = strings.TrimSpace(x.Client); x.Client == "" || len(x.Client) > 200 {
		return &Invalid{"client", x.Client, "write as whom we are known there (client_id)"}
	}
	if _, err := x.Secret(); err != nil {
		return &Invalid{"key", "…", err.Error()}
	}
	if x.Claim = cmp.Or(strings.TrimSpace(x.Claim), "groups"); len(x.Claim) > 200 {
		return &Invalid{"claim", x.Claim, "write what of a token names roles, as groups"}
	}
	if len(x.Roles) == 0 || len(x.Roles) > 1000 {
		return &Invalid{"roles", fmt.Sprint(len(x.Roles)), "say for at least one value of the claim which role it is here"}
	}
	for value, role := range x.Roles {
		if value == "" || !slices.Contains(houseRoles, Role(role)) {
			return &Invalid{"roles", value + "=" + role, "write VALUE=ROLE, where the role is administrator, keeper, auditor or member"}
		}
	}
	return nil
}

// SetHouse says how people of ours sign in with the organisation's own sign-in.
func (s *Service) SetHouse(ctx context.Context, who Who, why string, x HouseSignIn) error {
	if why = strings.TrimSpace(why); why == "" {
		return &Invalid{"why", "", "say why; the journal keeps it"}
	}
	if err := x.check(); err != nil {
		return err
	}
	x.By, x.Made = who.Name, s.Now().String()
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error { return putJSON(t, houseKind, houseID, &x) })
}

// EndHouse ends it: nobody signs in by it any more, and whoever did is signed out.
func (s *Service) EndHouse(ctx context.Context, who Who, why string) error {
	if why = strings.TrimSpace(why); why == "" {
		return &Invalid{"why", "", "say why; the journal keeps it"}
	}
	accounts, err := s.store.Accounts(ctx)
	if err != nil {
		return err
	}
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		doc, err := t.Record(houseKind, houseID)
		if err != nil || doc == nil {
			return cmp.Or(err, fmt.Errorf("%w: there is no sign-in of the organisation", ErrNotFound))
		}
		if _, err := t.EndRecord(houseKind, houseID); err != nil {
			return err
		}
		for i := range accounts {
			if accounts[i].Subject == "" {
				continue
			}
			if err := t.EndAll(accounts[i].Name); err != nil {
				return err
			}
		}
		return nil
	})
}

// HouseClaims is what the organisation's own sign-in says of somebody.
type HouseClaims struct {
	Issuer, Subject string
	Preferred       string // preferred_username
	Email           string // empty where it is not verified
	Values          []string
	Methods         []string // amr
}

// ErrNoRole is returned for somebody who is known there and has no role here.
var ErrNoRole = errors.New("no role here is for them")

// stronger are authentication methods that say more than a password (RFC 8176 §2).
var stronger = []string{"mfa", "otp", "hwk", "swk", "sc", "fpt", "face", "iris", "vbm", "pop", "sms", "tel"}

// role is the mightiest that the mapping gives for what is said of somebody.
func (x *HouseSignIn) role(values []string) (Role, bool) {
	for _, r := range houseRoles {
		for _, v := range values {
			if x.Roles[v] == string(r) {
				return r, true
			}
		}
	}
	return "", false
}

// HouseProved signs in whom the organisation's own sign-in says somebody to be. Their account is made at first, and has the role that is
// said each time; one with a password that is called the same is another account.
func (s *Service) HouseProved(ctx context.Context, c HouseClaims, from string) (Who, error) {
	sum := sha256.Sum256([]byte(c.Issuer + "\n" + c.Subject))
	subject := hex.EncodeToString(sum[:])
	var who Who
	var refused error
	err := s.change(ctx, unknownName, "", func(now *State, t *store.Tx) error {
		refused = nil
		x := &HouseSignIn{}
		doc, err := t.Record(houseKind, houseID)
		if err != nil || doc == nil || json.Unmarshal(doc, x) != nil || x.Issuer != c.Issuer {
			return errors.Join(err, ErrDenied)
		}
		a, err := t.AccountOf(subject)
		there := err == nil
		if err != nil && !errors.Is(err, store.ErrNone) {
			return err
		}
		role, allowed := x.role(c.Values)
		person := ""
		if p, err := addr.Parse(c.Email); err == nil {
			person = now.PersonAt(p)
		}
		if left := now.LeftAt(person); person != "" && left != 0 && left <= s.Now() {
			allowed = false
		}
		switch {
		case there && a.Disabled:
			refused = ErrDenied
		case !allowed, may.NeedsPerson(role) && person == "":
			refused = ErrNoRole
		case !x.Trusted && now.factorRequired(role) && !slices.ContainsFunc(c.Methods,
			func(m string) bool { return slices.Contains(stronger, m) }):
			refused = ErrFactor
		}
		name := a.Name
		if !there {
			if refused != nil {
				_, err := signedIn(t, unknownName, WayHouse, from, false)
				return err
			}
			if name, err = s.houseName(t, c, subject); err != nil {
				return err
			}
			a = store.Account{Name: name, Subject: subject}
		}
		if refused == nil && (a.Role != string(role) || a.Person != person) { // sessions that began with another role end
			a.Role, a.Person = string(role), person
			if err := t.PutAccount(a, there); err != nil {
				return err
			}
		} else if errors.Is(refused, ErrNoRole) && there {
			if err := t.EndAll(name); err != nil {
				return err
			}
		}
		who = Who{Name: name, Role: role, Person: person}
		who.Since, err = signedIn(t, name, WayHouse, from, refused == nil)
		return err
	})
	return who, errors.Join(err, refused)
}

// houseName finds a name for somebody's account that nobody else has.
func (s *Service) houseName(t *store.Tx, c HouseClaims, subject string) (string, error) {
	for _, text := range []string{c.Preferred, c.Email, "person-" + subject[:8]} {
		name, _, _ := strings.Cut(strings.ToLower(text), "@")
		if len(name) > 80 || !worldfile.ValidID(name) {
			continue
		}
		for _, n := range []string{name, name + "-" + subject[:6]} {
			if _, err := t.Account(n); errors.Is(err, store.ErrNone) {
				return n, nil
			} else if err != nil {
				return "", err
			}
		}
	}
	return "", fmt.Errorf("%w: no name is free for them", ErrConflict)
}
