package cli

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/worldfile"
)

// signedIn is what wexillum login keeps, readable by its owner alone.
type signedIn struct {
	Server string `json:"server"`
	Name   string `json:"name"`
	Token  string `json:"token"`
}

// profileOf returns the name by which the service that is spoken to is kept; empty for the only one.
func (a *app) profileOf() string { return cmp.Or(a.profile, os.Getenv("WEXILLUM_PROFILE")) }

// sessionFile returns where the sign-in is kept: a file for each profile, beside each other.
func (a *app) sessionFile() (string, error) {
	file := os.Getenv("WEXILLUM_SESSION")
	if file == "" {
		dir, err := os.UserConfigDir()
		if err != nil {
			return "", fmt.Errorf("there is no place to keep the sign-in: %w; name a file in WEXILLUM_SESSION", err)
		}
		file = filepath.Join(dir, "wexillum", "session.json")
	}
	p := a.profileOf()
	if p == "" {
		return file, nil
	}
	if !worldfile.ValidID(p) {
		return "", usage{fmt.Errorf("--profile %q: write lower-case letters, digits, dots, hyphens and underscores", p)}
	}
	return strings.TrimSuffix(file, ".json") + "-" + p + ".json", nil
}

func (a *app) readSession() signedIn {
	f, err := a.sessionFile()
	if err != nil {
		return signedIn{}
	}
	return readSignIn(f)
}

func readSignIn(file string) (s signedIn) {
	if b, err := os.ReadFile(file); err == nil {
		_ = json.Unmarshal(b, &s)
	}
	return s
}

// profiles lists the services that somebody signed in to from here.
func (a *app) profiles() *cobra.Command {
	return &cobra.Command{
		Use:   "profiles",
		Short: "The services that you are signed in to, by the names that --profile takes",
		Long:  "The services that you are signed in to, by the names that --profile takes.\n\nwexillum login --profile NAME --server ADDRESS keeps a sign-in under a name;\n--profile NAME, or WEXILLUM_PROFILE, then speaks to that service.",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			a.profile = ""
			one, err := a.sessionFile()
			if err != nil {
				return err
			}
			stem := strings.TrimSuffix(one, ".json")
			files, err := filepath.Glob(stem + "-*.json")
			if err != nil {
				return err
			}
			type profile struct {
				Profile string `json:"profile"`
				Server  string `json:"server"`
				Name    string `json:"name"`
			}
			list, rows := []profile{}, [][]string{}
			for _, f := range append([]string{one}, files...) {
				if s := readSignIn(f); s.Server != "" {
					name := strings.TrimPrefix(strings.TrimPrefix(strings.TrimSuffix(f, ".json"), stem), "-")
					list, rows = append(list, profile{name, s.Server, s.Name}), append(rows, []string{cmp.Or(name, "(none named)"), s.Server, s.Name})
				}
			}
			if a.output == "table" && len(list) == 0 {
				a.say("Nobody is signed in; wexillum login signs in.")
				return nil
			}
			return a.records(list, []string{"profile", "server", "signed in as"}, rows)
		},
	}
}

func (a *app) login() *cobra.Command {
	var name, code string
	c := &cobra.Command{
		Use:   "login",
		Short: "Sign in and keep a token that ends after twelve hours",
		Long:  "Sign in and keep a token that ends after twelve hours.\n\nThe password is asked for, or read from WEXILLUM_PASSWORD or, where there is no\nterminal, from standard input.",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if name == "" {
				return usage{errors.New("--name is needed: the name of your account")}
			}
			password, err := a.password()
			if err != nil {
				return err
			}
			return a.signIn(c, r, name, password, code)
		},
	}
	c.Flags().StringVar(&name, "name", "", "name of the account")
	c.Flags().StringVar(&code, "code", os.Getenv("WEXILLUM_CODE"),
		"a one-time code, or a recovery code, where a second factor is set up (WEXILLUM_CODE); on a terminal it is asked for")
	return c
}

// begin makes the first administrator of an installation and signs in.
func (a *app) begin() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use:   "begin ADDRESS",
		Short: "Make the first administrator with the address that wexillum start printed, and sign in",
		Long:  "Make the first administrator with the address that wexillum start printed, and sign\nin. The password is asked for, or read from WEXILLUM_PASSWORD or, where there is no\nterminal, from standard input.",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			server, key, ok := strings.Cut(args[0], "/begin#")
			if !ok || key == "" {
				return usage{fmt.Errorf("%q: write the address as it was printed, http://…/begin#…", args[0])}
			}
			if name == "" {
				return usage{errors.New("--name is needed: by which you will sign in")}
			}
			a.server = server
			r, err := a.remote()
			if err != nil {
				return err
			}
			password, err := a.newPassword()
			if err != nil {
				return err
			}
			resp, err := r.Begin(c.Context(), contract.FirstAdministrator{Key: key, Name: name, Password: password})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			return a.signIn(c, r, name, password, "")
		},
	}
	c.Flags().StringVar(&name, "name", "", "by which you will sign in: lower-case letters, digits, dots and hyphens")
	return c
}

// signIn signs in and keeps the token.
func (a *app) signIn(c *cobra.Command, r *remote, name, password, code string) error {
	resp, err := r.MakeToken(c.Context(), contract.MakeTokenJSONRequestBody{Name: name, Password: password, Code: optional(code)})
	var t contract.NewToken
	err = r.read(resp, err, &t)
	if p := (*problemError)(nil); code == "" && errors.As(err, &p) && strings.HasSuffix(p.Type, "/one-time-code") {
		if code, err = a.code(); err != nil {
			return err
		}
		resp, err = r.MakeToken(c.Context(), contract.MakeTokenJSONRequestBody{Name: name, Password: password, Code: &code})
		err = r.read(resp, err, &t)
	}
	if err != nil {
		return err
	}
	file, err := a.sessionFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	b, err := json.Marshal(signedIn{r.server, name, t.Token})
	if err != nil {
		return err
	}
	if err := writePrivate(file, b); err != nil {
		return err
	}
	a.say("Signed in to %s as %s until %s.", r.server, name, t.Expires.Local().Format("2006-01-02 15:04"))
	return nil
}

// writePrivate replaces a file by one that only its owner can read.
func writePrivate(file string, b []byte) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".session-*") // made with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if _, err := f.Write(b); err != nil {
		_ = f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(f.Name(), file)
}

func (a *app) password() (string, error) {
	if p := os.Getenv("WEXILLUM_PASSWORD"); p != "" {
		return p, nil
	}
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, "Password: ")
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 1000))
	if err != nil {
		return "", err
	}
	p, _, _ := strings.Cut(string(b), "\n") // what follows is not the password's
	p = strings.TrimRight(p, "\r")
	if p == "" {
		return "", usage{errors.New("a password is needed: type it, or set WEXILLUM_PASSWORD")}
	}
	return p, nil
}

// code asks for a one-time code.
func (a *app) code() (string, error) {
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", usage{errors.New("a one-time code is asked for: give --code, or set WEXILLUM_CODE")}
	}
	fmt.Fprint(a.err, "One-time code, or a recovery code: ")
	b, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.err)
	return string(b), err
}

// twoPasswords reads the password that counts now and a new one.
func (a *app) twoPasswords() (old, next string, err error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		ask := func(what string) string {
			fmt.Fprint(a.err, what+": ")
			var b []byte
			if err == nil {
				b, err = term.ReadPassword(int(f.Fd()))
			}
			fmt.Fprintln(a.err)
			return string(b)
		}
		old, next = ask("Your password now"), ask("Your new password")
		if again := ask("Your new password once more"); err == nil && again != next {
			err = usage{errors.New("the two new passwords differ; nothing was changed")}
		}
		return
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 1000))
	if err != nil {
		return "", "", err
	}
	lines := strings.Split(strings.ReplaceAll(string(b), "\r\n", "\n"), "\n")
	if len(lines) < 2 || lines[0] == "" || lines[1] == "" {
		return "", "", usage{errors.New("two lines are needed: the password that counts now, and the new one")}
	}
	return lines[0], lines[1], nil
}

func (a *app) logout() *cobra.Command {
	everywhere := false
	c := &cobra.Command{
		Use:   "logout",
		Short: "End the token that login kept",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			kept := a.readSession()
			file, err := a.sessionFile()
			if err != nil {
				return err
			}
			if kept.Token == "" {
				a.say("Nobody is signed in.")
				return nil
			}
			a.server = kept.Server
			r, err := a.remote()
			if err != nil {
				return err
			}
			var list struct{ Tokens []contract.Token }
			if everywhere {
				resp, err := r.EndOwnSessions(c.Context())
				if err := r.read(resp, err, nil); err != nil {
					return err
				}
			} else if resp, err := r.ListTokens(c.Context()); r.read(resp, err, &list) == nil {
				for _, t := range list.Tokens {
					if t.Account == kept.Name && t.Purpose == "client" {
						resp, err := r.EndToken(c.Context(), t.Id)
						_ = r.read(resp, err, nil)
					}
				}
			}
			if err := os.Remove(file); err != nil {
				return err
			}
			if everywhere {
				a.say("Signed out of %s everywhere.", kept.Server)
				return nil
			}
			a.say("Signed out of %s.", kept.Server)
			return nil
		},
	}
	c.Flags().BoolVar(&everywhere, "everywhere", false, "end every session and every token of your account, wherever they are")
	return c
}

func (a *app) newPassword() (string, error) {
	p, err := a.password()
	if err == nil && len(p) < 12 {
		err = usage{errors.New("a password has at least 12 characters")}
	}
	return p, err
}
