package service

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"wexillum.example/internal/dbtest"
)

// TestSecondFactor sets up one-time codes, signs in with them, with clocks that differ, twice with one, with recovery codes; changes and
// loses the password; takes them away; and requires them of roles.
func TestSecondFactor(t *testing.T) {
	was := PasswordMemory
	PasswordMemory = 64
	t.Cleanup(func() { PasswordMemory = was })
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	ctx := t.Context()
	const old, next = "low-water-2026", "high-tide-at-noon-2027"
	for name, role := range map[string]Role{"harbour": Administrator, "kira": Keeper} {
		check(t, s.MakeAccount(ctx, "test", "it begins", Account{Name: name, Role: string(role)}, old))
	}
	who := Who{Name: "harbour", Role: Administrator}
	in := func(password, code string) string {
		_, err := s.SignInCode(ctx, "harbour", password, code, WayConsole, "here")
		switch {
		case errors.Is(err, ErrFactor):
			return "code"
		case errors.Is(err, ErrDenied):
			return "no"
		case err != nil:
			return err.Error()
		}
		return "in"
	}
	if got := in(old, ""); got != "in" {
		t.Fatalf("without a factor: %s", got)
	}
	if _, err := s.BeginFactor(ctx, who, "wrong", WayConsole, ""); outcome(err) != `password "…": this is not your password` {
		t.Errorf("a wrong password: %v", err)
	}
	if _, err := s.ConfirmFactor(ctx, who, old, "000000", WayConsole, ""); !strings.Contains(outcome(err), "begin to set it up first") {
		t.Errorf("confirmed before it began: %v", err)
	}
	begun, err := s.BeginFactor(ctx, who, old, WayConsole, "")
	check(t, err)
	if !strings.HasPrefix(begun.URI, "otpauth://totp/Small:harbour?") || !strings.HasPrefix(begun.Image, "data:image/png;base64,") ||
		len(begun.Secret) < 32 {
		t.Errorf("begun: %+v", begun)
	}
	code := func(shift time.Duration) string {
		t.Helper()
		c, err := totp.GenerateCode(begun.Secret, clock.now().Add(shift))
		check(t, err)
		return c
	}
	if got := in(old, ""); got != "in" {
		t.Errorf("begun and not confirmed: %s", got)
	}
	if _, err := s.ConfirmFactor(ctx, who, old, code(5*time.Minute), WayConsole, ""); !strings.Contains(outcome(err), "it is not right now") {
		t.Errorf("a wrong first code: %v", err)
	}
	codes, err := s.ConfirmFactor(ctx, who, old, code(0), WayConsole, "")
	check(t, err)
	if len(codes) != recoverCodes {
		t.Fatalf("recovery codes: %v", codes)
	}
	// At signing in: asked for; each code once; clocks may differ by one step.
	for i, c := range []struct{ password, code, want string }{
		{old, "", "code"}, {"wrong password", "", "no"}, {"wrong password", code(30 * time.Second), "no"}, {old, code(0), "no"},
		{old, code(-30 * time.Second), "no"},
		{old, code(60 * time.Second), "no"}, {old, "  " + code(30 * time.Second)[:3] + " " + code(30 * time.Second)[3:], "in"},
		{old, code(30 * time.Second), "no"}, {old, "12345", "no"},
		{old, codes[0], "in"}, {old, codes[0], "no"}, {old, strings.ToLower(strings.ReplaceAll(codes[1], "-", "")), "in"},
	} {
		if got := in(c.password, c.code); got != c.want {
			t.Errorf("%d: with %s: %s, want %s", i, c.code, got, c.want)
		}
	}
	clock.forward(2 * time.Minute)
	// Two at once with one code: one is in.
	ways := make(chan string, 8)
	one := code(0)
	for range cap(ways) {
		go func() { ways <- in(old, one) }()
	}
	got := map[string]int{}
	for range cap(ways) {
		got[<-ways]++
	}
	if got["in"] != 1 || got["no"] != cap(ways)-1 {
		t.Errorf("one code, eight at once: %v", got)
	}
	f, err := s.FactorOf(ctx, who)
	if err != nil || !f.On || f.Left != recoverCodes-2 || f.Required {
		t.Errorf("how it stands: %+v %v", f, err)
	}
	// A new password of their own keeps it; one that somebody else gives ends it, as it was sealed with the old one.
	if _, err := s.SetPassword(ctx, who, old, next, ""); err != nil {
		t.Fatal(err)
	}
	clock.forward(time.Minute)
	if got := in(next, "") + in(next, code(0)) + in(old, code(30*time.Second)); got != "codeinno" {
		t.Errorf("a new password: %s", got)
	}
	doc := ""
	check(t, s.store.Records(ctx, "second_factor", "", func(_ string, d []byte) error { doc += string(d); return nil }))
	kept, err := s.store.Factor(ctx, "harbour")
	if err != nil || strings.Contains(string(kept.Sealed), begun.Secret) || doc != "" {
		t.Errorf("the secret lies open: %v", err)
	}
	if _, err := s.ChangeAccount(ctx, "(database)", "they lost both", "harbour", AccountChange{Password: old}); err != nil {
		t.Fatal(err)
	}
	if got := in(old, ""); got != "in" {
		t.Errorf("let in again: %s", got)
	}
	// Required of a role: whoever has none sets it up first; nobody is locked out.
	load(t, s, "wexillum: 1\nsettings: {forget_days: 100, brake: none, second_factor: keepers}\n")
	for name, c := range map[string]struct {
		who  Who
		want bool
	}{"administrator": {who, true}, "keeper": {Who{Name: "kira", Role: Keeper}, true}, "member": {Who{Name: "m", Role: Member}, false},
		"token": {Who{Name: "token:x", Role: "reading"}, false},
		"guest": {Who{Name: "guest:a@b.example", Role: RoleGuest, Guest: "a@b.example"}, false}} {
		if got, err := s.LacksFactor(ctx, c.who); err != nil || got != c.want {
			t.Errorf("%s lacks it: %t %v", name, got, err)
		}
	}
	begun, err = s.BeginFactor(ctx, who, old, WayConsole, "")
	check(t, err)
	_, err = s.ConfirmFactor(ctx, who, old, code(0), WayConsole, "")
	check(t, err)
	if lacks, err := s.LacksFactor(ctx, who); err != nil || lacks {
		t.Errorf("set up, and lacks it: %t %v", lacks, err)
	}
	clock.forward(time.Minute)
	if err := s.RemoveFactor(ctx, who, old, code(0), WayConsole, ""); !strings.Contains(outcome(err),
		"your role has to have a second factor") {
		t.Errorf("taken away though it has to be: %v", err)
	}
	if err := s.ResetFactor(ctx, "kira", "harbour", ""); !strings.Contains(outcome(err), "say how you know") {
		t.Errorf("reset without a reason: %v", err)
	}
	check(t, s.ResetFactor(ctx, "kira", "harbour", "they came by"))
	load(t, s, "wexillum: 1\nsettings: {forget_days: 100, brake: none, second_factor: nobody}\n")
	if got := in(old, ""); got != "in" {
		t.Errorf("reset: %s", got)
	}
	if err := s.RemoveFactor(ctx, who, old, "000000", WayConsole, ""); !strings.Contains(outcome(err), "you have none") {
		t.Errorf("nothing to take away: %v", err)
	}
	all := strings.Join(journaled(t, s, "second_factor"), "\n")
	for _, want := range []string{"they came by", "they lost both"} {
		if !strings.Contains(all, want) {
			t.Errorf("the journal lacks %q: %s", want, all)
		}
	}
	if strings.Contains(all, begun.Secret) || strings.Contains(all, codes[2]) {
		t.Error("the journal holds a secret")
	}
	if _, broken, err := s.store.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("the journal: %v %v", broken, err)
	}
}
