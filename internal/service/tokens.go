package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wexillum.example/internal/store"
)

// Token is a token without its secret.
type Token struct {
	ID, Name, Account, Purpose string
	Made, Expires              time.Time
	Used                       time.Time // when it was used last, to some minutes; zero for never
	UsedFrom                   string    // from which address
}

// usedEvery is how exactly the last use of a token is known.
const usedEvery = 10 * time.Minute

// TokenUsed notes that a service's token was used, from an address: in the journal once a day, and beside the
// token every ten minutes; not by a service that only follows. Whoever asked does not wait for it, and it is not missed while the database
// is away.
func (s *Service) TokenUsed(who Who, from string) {
	if s.follows {
		return
	}
	now := s.clock().UTC().Truncate(time.Microsecond)
	if was, ok := s.tokenUsed.Load(who.Token); ok && now.Sub(was.(time.Time)) < usedEvery && now.YearDay() == was.(time.Time).YearDay() {
		return
	}
	was, _ := s.tokenUsed.Swap(who.Token, now)
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if err := s.noteUse(ctx, who, from, now); err != nil {
			s.log.WarnContext(ctx, "the use of a token is not noted", "token", who.Name, "error", err)
			if was != nil { // the next use is noted
				s.tokenUsed.Store(who.Token, was)
			} else {
				s.tokenUsed.Delete(who.Token)
			}
		}
	}()
}

func (s *Service) noteUse(ctx context.Context, who Who, from string, now time.Time) error {
	last, err := s.store.TokenLastUsed(ctx, who.Token)
	if err != nil {
		return err
	}
	if last.Year() == now.Year() && last.YearDay() == now.YearDay() {
		return s.store.UsedAgain(ctx, who.Token, from, now)
	}
	return s.change(ctx, who.Name, "the first use of the day", func(_ *State, t *store.Tx) error {
		return t.Used(who.Token, from)
	})
}

// purposeClient is that of the client's tokens, which act for an account.
const purposeClient = store.ClientScope

// MakeToken makes a token for an account, or for a service where purpose is not
// the client's. The text is shown once; only its hash is kept.
func (s *Service) MakeToken(ctx context.Context, who Who, name, purpose string, life time.Duration) (text string, t Token, err error) {
	text = "wxl_" + rand.Text() + rand.Text()
	sum := sha256.Sum256([]byte(text))
	id := make([]byte, 8)
	_, _ = rand.Read(id)
	now := s.clock().UTC().Truncate(time.Microsecond)
	t = Token{ID: hex.EncodeToString(id), Name: name, Account: who.Name, Purpose: purpose, Made: now, Expires: now.Add(life)}
	err = s.change(ctx, who.Name, "", func(_ *State, tx *store.Tx) error {
		return tx.PutToken(store.Token(t), sum, tokenDoc(t))
	})
	return
}

func tokenDoc(t Token) []byte {
	b, _ := json.Marshal(
		map[string]string{"account": t.Account, "name": t.Name, "purpose": t.Purpose, "expires": t.Expires.Format(time.RFC3339)},
	)
	return b
}

// ClientToken makes a token for the client of somebody who gave name and password.
func (s *Service) ClientToken(ctx context.Context, who Who) (string, Token, error) {
	return s.MakeToken(ctx, who, "client", purposeClient, 12*time.Hour)
}

// bearer is who a token was found to stand for. What was found is looked at again whenever the
// journal says that an account or a token changed, so it holds for as long as the journal is
// heard.
type bearer struct {
	who     Who
	expires time.Time
	found   time.Time
}

// bearerHolds is how long what is known of tokens holds while nothing is heard of the database,
// which would tell that one was ended.
const bearerHolds = 5 * time.Minute

// heard returns when the database was last heard, at the latest when something was found there.
func (s *Service) heard(found time.Time) time.Time {
	if at := s.followed.Load(); at != 0 {
		if t := time.UnixMilli(at); t.After(found) {
			return t
		}
	}
	return found
}

// Bearer returns who a token stands for. A known one goes on for five minutes, and not beyond
// its own end, while the database is away.
func (s *Service) Bearer(ctx context.Context, text string) (Who, error) {
	if len(text) > 200 {
		return Who{}, ErrDenied
	}
	sum := sha256.Sum256([]byte(text))
	if x, ok := s.bearers.Load(sum); ok {
		b := x.(bearer)
		if !s.clock().Before(b.expires) {
			return Who{}, ErrDenied
		}
		if s.clock().Sub(s.heard(b.found)) < bearerHolds {
			return b.who, nil
		}
	}
	b, err := s.findBearer(ctx, sum)
	return b.who, err
}

// findBearer looks a token up and keeps what it finds.
func (s *Service) findBearer(ctx context.Context, sum [32]byte) (bearer, error) {
	seq := s.State().Head.Seq
	t, a, err := s.store.TokenBySecret(ctx, sum)
	if errors.Is(err, store.ErrNone) || err == nil && (a.Disabled || !s.clock().Before(t.Expires)) {
		s.bearers.Delete(sum)
		return bearer{}, ErrDenied
	}
	if err != nil {
		return bearer{}, err
	}
	who := Who{Name: a.Name, Role: Role(a.Role), Person: a.Person, Token: t.ID, Made: t.Made}
	if t.Purpose != purposeClient {
		who = Who{Name: "token:" + t.Name, Role: Role(t.Purpose), Token: t.ID}
	}
	b := bearer{who, t.Expires, s.clock()}
	s.bearers.Store(sum, b)
	if s.State().Head.Seq != seq { // what changed meanwhile may be this; it is looked up again when it is asked for
		s.bearers.Delete(sum)
	}
	return b, nil
}

// lookAgain looks up every token that is known, where accounts or tokens changed. Where the
// database does not say, none is known any more.
func (s *Service) lookAgain(ctx context.Context, after, to uint64) {
	changed, err := s.store.Touched(ctx, after, to, "account", "token", "sessions")
	if err == nil && !changed {
		return
	}
	if err != nil {
		s.bearers.Clear()
		return
	}
	s.bearers.Range(func(k, _ any) bool {
		if _, err := s.findBearer(ctx, k.([32]byte)); err != nil {
			s.bearers.Delete(k)
		}
		return true
	})
}

// Tokens lists the tokens of an account, or of all for an administrator.
func (s *Service) Tokens(ctx context.Context, who Who) ([]Token, error) {
	account := who.Name
	if who.EveryToken() {
		account = ""
	}
	ts, err := s.store.Tokens(ctx, account)
	out := make([]Token, 0, len(ts))
	for _, t := range ts {
		out = append(out, Token(t))
	}
	return out, err
}

// EndToken ends a token of one's own; administrators end any.
func (s *Service) EndToken(ctx context.Context, who Who, id string) error {
	return s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		account := who.Name
		if who.EveryToken() {
			account = ""
		}
		ok, err := t.EndToken(id, account)
		if err == nil && !ok {
			err = fmt.Errorf("%w: there is no token %q", ErrNotFound, id)
		}
		return err
	})
}
