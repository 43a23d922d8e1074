package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Passkeys (W3C Web Authentication) prove in one step that somebody has a device and that it knows them, so that one takes the place of a
// password and a one-time code.

// WayPasskey is the way of signing in by a passkey.
const WayPasskey = "passkey"

const (
	// mostPasskeys is how many somebody may have.
	mostPasskeys = 10
	// passkeyTime is how long somebody may take to touch their device.
	passkeyTime = 5 * time.Minute
	// guestPasskeyDays is how many days a guest's passkey counts after their mailbox was proved last: whoever leaves their organisation
	// loses the mailbox, and keeps the device.
	guestPasskeyDays = 90
)

// ErrPasskey is returned where the password was right, and the role asks for a second factor that is a passkey alone.
var ErrPasskey = errors.New("a passkey is asked for")

// keyholder is somebody with passkeys, as the package knows them.
type keyholder struct {
	handle      []byte
	name        string
	credentials []webauthn.Credential
}

func (k *keyholder) WebAuthnID() []byte                         { return k.handle }
func (k *keyholder) WebAuthnName() string                       { return k.name }
func (k *keyholder) WebAuthnDisplayName() string                { return k.name }
func (k *keyholder) WebAuthnCredentials() []webauthn.Credential { return k.credentials }

func holderOf(owner string, keys []store.Passkey) (*keyholder, error) {
	k := &keyholder{name: strings.TrimPrefix(owner, "guest:")}
	for i := range keys {
		var c webauthn.Credential
		if err := json.Unmarshal([]byte(keys[i].Doc), &c); err != nil {
			return nil, fmt.Errorf("a passkey of %s is damaged: %w", owner, err)
		}
		k.handle, k.credentials = keys[i].Handle, append(k.credentials, c)
	}
	if k.handle == nil {
		k.handle = make([]byte, 32)
		_, _ = rand.Read(k.handle)
	}
	return k, nil
}

func passkeyID(raw []byte) string {
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// ceremonies are passkeys at an address of ours, as https://access.house.example.
func (s *Service) ceremonies(origin string) (*webauthn.WebAuthn, error) {
	u, err := url.Parse(origin)
	if err != nil || u.Hostname() == "" {
		return nil, fmt.Errorf("%w: where this service is reached is not known", ErrConflict)
	}
	if _, err := netip.ParseAddr(u.Hostname()); err == nil {
		return nil,
			fmt.Errorf("%w: passkeys belong to a name, and %s is a number: open this service by its name (http://localhost:%s on this machine)",
				ErrConflict, u.Hostname(), cmp.Or(u.Port(), "80"))
	}
	name := "Wexillum"
	if o := s.State().Policy().Organisation; o != nil && o.Name != "" {
		name = o.Name
	}
	timeout := webauthn.TimeoutConfig{Enforce: true, Timeout: passkeyTime, TimeoutUVD: passkeyTime}
	return webauthn.New(&webauthn.Config{
		RPID: u.Hostname(), RPDisplayName: name, RPOrigins: []string{u.Scheme + "://" + u.Host},
		AttestationPreference: protocol.PreferNoAttestation,
		AuthenticatorSelection: protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired,
			RequireResidentKey: protocol.ResidentKeyRequired(), UserVerification: protocol.VerificationRequired},
		Timeouts: webauthn.TimeoutsConfig{Login: timeout, Registration: timeout},
	})
}

// Passkeys lists somebody's own passkeys.
func (s *Service) Passkeys(ctx context.Context, who Who) ([]store.Passkey, error) {
	return s.store.Passkeys(ctx, who.Name)
}

// BeginPasskey begins to add a passkey: what the browser is to be asked, and what is to be kept until it answers.
func (s *Service) BeginPasskey(ctx context.Context, who Who, origin string) (options any, kept string, err error) {
	w, err := s.ceremonies(origin)
	if err != nil {
		return nil, "", err
	}
	keys, err := s.store.Passkeys(ctx, who.Name)
	if err != nil {
		return nil, "", err
	}
	if len(keys) >= mostPasskeys {
		return nil, "", fmt.Errorf("%w: you have %d passkeys; take one away first", ErrConflict, len(keys))
	}
	k, err := holderOf(who.Name, keys)
	if err != nil {
		return nil, "", err
	}
	creation, session, err := w.BeginRegistration(k, webauthn.WithExclusions(webauthn.Credentials(k.credentials).CredentialDescriptors()))
	if err != nil {
		return nil, "", err
	}
	doc, err := json.Marshal(session)
	return creation, string(doc), err
}

// FinishPasskey adds the passkey that the browser answers with.
func (s *Service) FinishPasskey(ctx context.Context, who Who, origin, kept, name string, answer []byte) error {
	if name = strings.TrimSpace(name); name == "" || len([]rune(name)) > 60 {
		return &Invalid{"name", name, "call it something in 1 to 60 letters, as the device that holds it"}
	}
	w, session, err := s.ceremony(origin, kept)
	if err != nil {
		return err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return &Invalid{"credential", "…", "it is no answer of a passkey"}
	}
	keys, err := s.store.Passkeys(ctx, who.Name)
	if err != nil {
		return err
	}
	k, err := holderOf(who.Name, keys)
	if err != nil {
		return err
	}
	k.handle = session.UserID // as it was offered; of somebody's first one it is new
	cred, err := w.CreateCredential(k, *session, parsed)
	if err != nil {
		s.log.WarnContext(ctx, "a passkey does not hold", "who", who.Name, "error", err)
		return &Invalid{"credential", "…", "it does not hold: begin again"}
	}
	doc, err := json.Marshal(cred)
	if err != nil {
		return err
	}
	now := s.Now()
	p := &store.Passkey{ID: passkeyID(cred.ID), Owner: who.Name, Handle: k.handle, Name: name, Doc: string(doc), Made: now}
	if who.Guest != "" {
		p.Until = now + guestPasskeyDays*86400e6
	}
	return s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		have, err := t.Passkeys(who.Name)
		if err != nil {
			return err
		}
		if len(have) >= mostPasskeys || slices.ContainsFunc(have, func(x store.Passkey) bool { return x.ID == p.ID }) {
			return fmt.Errorf("%w: it is there already, or you have too many", ErrConflict)
		}
		s.factored.Delete(who.Name)
		return t.AddPasskey(p)
	})
}

// ceremony goes on with what was begun.
func (s *Service) ceremony(origin, kept string) (*webauthn.WebAuthn, *webauthn.SessionData, error) {
	w, err := s.ceremonies(origin)
	if err != nil {
		return nil, nil, err
	}
	session := &webauthn.SessionData{}
	if kept == "" || json.Unmarshal([]byte(kept), session) != nil {
		return nil, nil, fmt.Errorf("%w: begin again: nothing was begun in this browser, or it took longer than %d minutes", ErrConflict,
			int(passkeyTime.Minutes()))
	}
	return w, session, nil
}

// EndPasskey takes one of somebody's own passkeys away.
func (s *Service) EndPasskey(ctx context.Context, who Who, id string) error {
	return s.change(ctx, who.Name, "", func(now *State, t *store.Tx) error {
		keys, err := t.Passkeys(who.Name)
		if err != nil {
			return err
		}
		if len(keys) == 1 && who.Guest == "" && now.factorRequired(who.Role) {
			if f, err := t.Factor(who.Name); err != nil || f == nil || f.Confirmed == 0 {
				return cmp.Or(err,
					fmt.Errorf("%w: your role has to have a second factor, and this is yours: add another passkey or one-time codes first", ErrConflict))
			}
		}
		n, err := t.EndPasskeys(who.Name, id, "taken away by themselves")
		if err == nil && n == 0 {
			err = fmt.Errorf("%w: you have no such passkey", ErrNotFound)
		}
		s.factored.Delete(who.Name)
		return err
	})
}

// AskPasskey begins to sign somebody in by a passkey, whoever they are.
func (s *Service) AskPasskey(origin string) (options any, kept string, err error) {
	w, err := s.ceremonies(origin)
	if err != nil {
		return nil, "", err
	}
	assertion, session, err := w.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return nil, "", err
	}
	doc, err := json.Marshal(session)
	return assertion, string(doc), err
}

// PasskeyProved signs in whom a passkey proves: somebody with an account, or a guest.
func (s *Service) PasskeyProved(ctx context.Context, origin, kept string, answer []byte, k SigningIn) (Entered, error) {
	w, session, err := s.ceremony(origin, kept)
	if err != nil {
		return Entered{}, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return Entered{}, &Invalid{"credential", "…", "it is no answer of a passkey"}
	}
	id := passkeyID(parsed.RawID)
	var used *store.Passkey
	_, cred, err := w.ValidatePasskeyLogin(func(_, handle []byte) (webauthn.User, error) {
		keys, err := s.store.PasskeysOf(ctx, handle)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(keys, func(p store.Passkey) bool { return p.ID == id })
		if i < 0 {
			return nil, ErrDenied
		}
		used = &keys[i]
		return holderOf(used.Owner, keys[i:i+1])
	}, *session, parsed)
	now := s.Now()
	if err != nil || cred.Authenticator.CloneWarning || used.Until != 0 && used.Until <= now {
		s.log.WarnContext(ctx, "a passkey was not taken", "error", err)
		name := unknownName
		if used != nil {
			name = used.Owner
		}
		err = s.change(ctx, name, "", func(_ *State, t *store.Tx) error {
			_, err := signedIn(t, strings.TrimPrefix(name, "guest:"), WayPasskey, k.Source, false)
			return err
		})
		return Entered{}, errors.Join(err, ErrDenied)
	}
	doc, err := json.Marshal(cred)
	if err != nil {
		return Entered{}, err
	}
	if address, ok := strings.CutPrefix(used.Owner, "guest:"); ok {
		a, err := addr.Parse(address)
		if err != nil {
			return Entered{}, ErrDenied
		}
		// It stands for the mailbox that was proved before: where codes are not taken, it is not either.
		if !s.State().signsInBy(a, byCode) || !s.maySignIn(a) {
			return Entered{}, s.refusedGuest(ctx, a, WayPasskey, k.Source)
		}
		if err := s.change(ctx, used.Owner, "", func(_ *State, t *store.Tx) error {
			return errors.Join(t.UsePasskey(used.ID, string(doc), now), t.Commit())
		}); err != nil {
			return Entered{}, err
		}
		who, err := s.SeenGuest(ctx, a, k.Language, WayPasskey, k.Source)
		return Entered{Who: who, Address: a.String()}, err
	}
	var who Who
	err = s.change(ctx, used.Owner, "", func(_ *State, t *store.Tx) error {
		a, err := t.Account(used.Owner)
		if errors.Is(err, store.ErrNone) {
			return ErrDenied
		}
		if err != nil {
			return err
		}
		who = Who{Name: a.Name, Role: Role(a.Role), Person: a.Person}
		if who.Since, err = signedIn(t, a.Name, WayPasskey, k.Source, !a.Disabled); err != nil {
			return err
		}
		return t.UsePasskey(used.ID, string(doc), now)
	})
	if err == nil {
		who, err = s.WhoIs(ctx, who.Name, who.Since)
	}
	return Entered{Who: who}, err
}

// keepPasskeys lets a guest's passkeys count for longer, as their mailbox was proved just now.
func (s *Service) keepPasskeys(t *store.Tx, g *world.Guest, now moment.Moment) error {
	return t.KeepPasskeys(GuestName(g.Address.String()), now+guestPasskeyDays*86400e6)
}
