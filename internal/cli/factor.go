package cli

import (
	"errors"
	"strconv"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

// factor is one's own second factor, and the way to take somebody's away who lost it.
func (a *app) factor() *cobra.Command {
	c := &cobra.Command{Use: "factor", Short: "One-time codes at signing in, beside the password (RFC 6238)",
		Long: "One-time codes at signing in, beside the password (RFC 6238), from any app for them.\nsettings.second_factor says whose accounts have to have them. Passwords are prompted for, or\nread from WEXILLUM_PASSWORD or standard input."}
	ask := func(run func(c *cobra.Command, r *remote, password string) error) func(c *cobra.Command, _ []string) error {
		return func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p, err := a.password()
			if err != nil {
				return err
			}
			return run(c, r, p)
		}
	}
	show := &cobra.Command{Use: "show", Short: "How your second factor stands", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetFactor(c.Context())
			var f contract.Factor
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(&f, []string{"on", "required", "recovery codes"},
					[][]string{{strconv.FormatBool(f.On), strconv.FormatBool(f.Required), strconv.Itoa(f.RecoveryCodes)}})
			}
			switch {
			case f.On:
				a.say("A one-time code is asked for since %s; %s left.", day(pick(f.Since)),
					counted.Of(f.RecoveryCodes, "recovery code is", "recovery codes are"))
			case f.Required:
				a.say("You have none, and your role has to: wexillum account factor begin")
			default:
				a.say("You have none. Set one up: wexillum account factor begin")
			}
			return nil
		}}
	begin := &cobra.Command{Use: "begin", Short: "Begin to set it up: what your app is to know", Args: cobra.NoArgs,
		RunE: ask(func(c *cobra.Command, r *remote, password string) error {
			resp, err := r.BeginFactor(c.Context(), contract.BeginFactorJSONRequestBody{Password: password})
			var f contract.FactorBegun
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(&f, []string{"secret", "uri"}, [][]string{{f.Secret, f.Uri}})
			}
			a.say("Type this into your app for one-time codes, or give it the address:")
			a.say("")
			a.say("  %s", f.Secret)
			a.say("  %s", f.Uri)
			a.say("")
			a.say("Then: wexillum account factor confirm --code CODE")
			return nil
		})}
	var code string
	confirm := &cobra.Command{Use: "confirm", Short: "Give a first code; from then on one is asked for", Args: cobra.NoArgs,
		RunE: ask(func(c *cobra.Command, r *remote, password string) error {
			if code == "" {
				return usage{errors.New("--code is needed: what your app shows now")}
			}
			resp, err := r.ConfirmFactor(c.Context(), contract.ConfirmFactorJSONRequestBody{Password: password, Code: code})
			var x contract.RecoveryCodes
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, one := range x.Codes {
				rows = append(rows, []string{one})
			}
			if a.output != "table" {
				return a.records(&x, []string{"code"}, rows)
			}
			a.say("From now on a one-time code is asked for. For when your device is lost, each good once, and told this once:")
			a.say("")
			for _, one := range x.Codes {
				a.say("  %s", one)
			}
			return nil
		})}
	remove := &cobra.Command{Use: "remove", Short: "Take it away", Args: cobra.NoArgs,
		RunE: ask(func(c *cobra.Command, r *remote, password string) error {
			if code == "" {
				return usage{errors.New("--code is needed: what your app shows now, or a recovery code")}
			}
			resp, err := r.RemoveFactor(c.Context(), contract.RemoveFactorJSONRequestBody{Password: password, Code: code})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("No one-time code is asked for any more.")
			return nil
		})}
	for _, x := range []*cobra.Command{confirm, remove} {
		x.Flags().StringVar(&code, "code", "", "what your app shows now")
	}
	var why string
	reset := &cobra.Command{Use: "reset NAME", Short: "Take somebody's second factor away who lost it; their sessions and tokens end",
		Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ResetFactor(c.Context(), args[0], contract.ResetFactorJSONRequestBody{Why: why})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("%s signs in with their password alone, and is signed out everywhere.", args[0])
			return nil
		}}
	whyFlag(reset, &why)
	c.AddCommand(show, begin, confirm, remove, reset)
	return c
}
