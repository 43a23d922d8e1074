package service

import (
	"crypto/ecdsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/descope/virtualwebauthn"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/dbtest"
)

const keysOrigin = "https://access.ours.example"

// device is a telephone that holds passkeys.
type device struct {
	t    *testing.T
	s    *Service
	rp   virtualwebauthn.RelyingParty
	auth virtualwebauthn.Authenticator
	cred virtualwebauthn.Credential
}

func newDevice(t *testing.T, s *Service) *device {
	return &device{t: t, s: s, rp: virtualwebauthn.RelyingParty{ID: "access.ours.example", Name: "Small", Origin: keysOrigin},
		auth: virtualwebauthn.NewAuthenticator(), cred: newCredential(t)}
}

// newCredential makes a key of which neither coordinate begins with a zero: the device that is played leaves such zeros out, which
// no real one does, and one key in 128 would be refused for it.
func newCredential(t *testing.T) virtualwebauthn.Credential {
	t.Helper()
	for {
		cred := virtualwebauthn.NewCredential(virtualwebauthn.KeyTypeEC2)
		key, err := x509.ParsePKCS8PrivateKey(cred.Key.Data)
		check(t, err)
		public, err := key.(*ecdsa.PrivateKey).PublicKey.Bytes() // 4, and both coordinates (SEC 1 §2.3.3)
		check(t, err)
		if public[1] != 0 && public[33] != 0 {
			return cred
		}
	}
}

func asJSON(t *testing.T, x any) string {
	t.Helper()
	b, err := json.Marshal(x)
	check(t, err)
	return string(b)
}

// adds makes a passkey of somebody.
func (d *device) adds(who Who, name string) error {
	d.t.Helper()
	options, kept, err := d.s.BeginPasskey(d.t.Context(), who, keysOrigin)
	if err != nil {
		return err
	}
	o, err := virtualwebauthn.ParseAttestationOptions(asJSON(d.t, options))
	check(d.t, err)
	handle, err := base64.RawURLEncoding.DecodeString(o.UserID)
	if err != nil {
		handle = []byte(o.UserID)
	}
	d.auth.Options.UserHandle = handle
	answer := virtualwebauthn.CreateAttestationResponse(d.rp, d.auth, d.cred, *o)
	err = d.s.FinishPasskey(d.t.Context(), who, keysOrigin, kept, name, []byte(answer))
	if err == nil {
		d.auth.AddCredential(d.cred)
	}
	return err
}

// answers begins to sign in and answers; it returns what was kept and the answer.
func (d *device) answers() (kept, answer string) {
	d.t.Helper()
	options, kept, err := d.s.AskPasskey(keysOrigin)
	check(d.t, err)
	o, err := virtualwebauthn.ParseAssertionOptions(asJSON(d.t, options))
	check(d.t, err)
	d.cred.Counter++
	return kept, virtualwebauthn.CreateAssertionResponse(d.rp, d.auth, d.cred, *o)
}

func (d *device) signsIn() (Entered, error) {
	d.t.Helper()
	kept, answer := d.answers()
	return d.s.PasskeyProved(d.t.Context(), keysOrigin, kept, []byte(answer), SigningIn{Source: "127.0.0.1"})
}

// TestPasskeys has people of ours and a guest sign in by passkeys, and everybody else not: answers to other questions, from other places,
// by copies, without a lock; of disabled accounts; and a guest's when their mailbox was not proved for long.
func TestPasskeys(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	ctx := t.Context()
	for _, a := range []Account{{Name: "harbour", Role: "administrator"}, {Name: "mooring", Role: "keeper"}} {
		check(t, s.MakeAccount(ctx, "test", "it begins", a, "low-water-2026"))
	}
	harbour := Who{Name: "harbour", Role: Administrator}
	if _, _, err := s.BeginPasskey(ctx, harbour, "http://127.0.0.1:8470"); !strings.Contains(outcome(err),
		"passkeys belong to a name, and 127.0.0.1 is a number") {
		t.Errorf("at a number: %v", err)
	}
	d := newDevice(t, s)
	if _, err := d.signsIn(); !errors.Is(err, ErrDenied) {
		t.Errorf("nobody's: %v", err)
	}
	check(t, d.adds(harbour, "telephone"))
	if err := d.adds(harbour, "telephone"); outcome(err) == "" {
		t.Error("the same device twice")
	}
	x, err := d.signsIn()
	check(t, err)
	if x.Name != "harbour" || x.Role != Administrator || x.Since == 0 {
		t.Errorf("in as %+v", x)
	}
	keys, err := s.Passkeys(ctx, harbour)
	check(t, err)
	if len(keys) != 1 || keys[0].Name != "telephone" || keys[0].Used == 0 {
		t.Errorf("kept: %+v", keys)
	}

	// What does not count.
	refused := func(what string, kept, answer string) {
		t.Helper()
		if _, err := s.PasskeyProved(ctx, keysOrigin, kept, []byte(answer), SigningIn{}); err == nil {
			t.Errorf("%s is taken", what)
		}
	}
	kept, answer := d.answers()
	other, _ := d.answers()
	refused("an answer to another question", other, answer)
	refused("an answer to no question", "", answer)
	refused("no answer", kept, "{}")
	elsewhere := *d
	elsewhere.rp.Origin = "https://access.ours.example.evil.example"
	kept, answer = elsewhere.answers()
	refused("an answer from elsewhere", kept, answer)
	unlocked := *d
	unlocked.auth.Options.UserNotVerified = true
	kept, answer = unlocked.answers()
	refused("an answer of a device that nobody unlocked", kept, answer)
	d.cred.Counter = 0
	if _, err := d.signsIn(); !errors.Is(err, ErrDenied) {
		t.Errorf("a copy whose counter is behind: %v", err)
	}
	d.cred.Counter = 100
	_, err = d.signsIn()
	check(t, err)
	stranger := newDevice(t, s)
	stranger.auth.Options.UserHandle = d.auth.Options.UserHandle
	kept, answer = stranger.answers()
	refused("another key with the same handle", kept, answer)

	// A role that has to have a second factor: a passkey is one, and a password alone does not do then.
	load(t, s, "wexillum: 1\nsettings: {second_factor: administrators, brake: none}")
	if lacks, err := s.LacksFactor(ctx, harbour); err != nil || lacks {
		t.Errorf("a passkey is a second factor: %t %v", lacks, err)
	}
	if _, err := s.SignIn(ctx, "harbour", "low-water-2026", WayConsole, ""); !errors.Is(err, ErrPasskey) {
		t.Errorf("a password alone: %v", err)
	}
	if err := s.EndPasskey(ctx, harbour, keys[0].ID); !strings.Contains(outcome(err), "your role has to have a second factor") {
		t.Errorf("the last one away: %v", err)
	}
	check(t, s.ResetFactor(ctx, "mooring", "harbour", "they rang, and their voice is known"))
	if _, err := d.signsIn(); !errors.Is(err, ErrDenied) {
		t.Errorf("reset: %v", err)
	}
	if lacks, err := s.LacksFactor(ctx, harbour); err != nil || !lacks {
		t.Errorf("none is left: %t %v", lacks, err)
	}

	// A disabled account does not come in.
	m := newDevice(t, s)
	check(t, m.adds(Who{Name: "mooring", Role: Keeper}, "key ring"))
	yes := true
	_, err = s.ChangeAccount(ctx, "harbour", "they left", "mooring", AccountChange{Disabled: &yes})
	check(t, err)
	if _, err := m.signsIn(); !errors.Is(err, ErrDenied) {
		t.Errorf("a disabled account: %v", err)
	}

	// A guest: for ninety days after their mailbox was proved last.
	load(t,
		s,
		"wexillum: 1\nguests: [{address: n@ilvane.example, name: Nils, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}]\nrules: {guests.term_days: {default: none}}")
	nils := Who{Name: GuestName("n@ilvane.example"), Role: RoleGuest, Guest: "n@ilvane.example"}
	g := newDevice(t, s)
	check(t, g.adds(nils, "telephone"))
	x, err = g.signsIn()
	check(t, err)
	if x.Guest != "n@ilvane.example" || x.Role != RoleGuest {
		t.Errorf("a guest: %+v", x)
	}
	clock.forward(80 * 24 * time.Hour)
	a, err := addr.Parse("n@ilvane.example")
	check(t, err)
	_, err = s.SeenGuest(ctx, a, "en", WayCode, "")
	check(t, err)
	clock.forward(80 * 24 * time.Hour)
	_, err = g.signsIn()
	check(t, err)
	clock.forward(11 * 24 * time.Hour)
	if _, err := g.signsIn(); !errors.Is(err, ErrDenied) {
		t.Errorf("a mailbox that was not proved for long: %v", err)
	}
	_, err = s.SeenGuest(ctx, a, "en", WayCode, "")
	check(t, err)
	_, err = g.signsIn()
	check(t, err)
	load(t, s, "wexillum: 1\nrules: {directory.sign_in: {default: [partner]}}")
	if _, err := g.signsIn(); !errors.Is(err, ErrDenied) {
		t.Errorf("where codes are not taken: %v", err)
	}
}
