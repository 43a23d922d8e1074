package cli

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

func (a *app) house() *cobra.Command {
	c := &cobra.Command{Use: "house", Short: "The organisation's own sign-in, for people of ours (OpenID Connect)",
		Long: "Let people of ours sign in where they do for everything else (OpenID Connect). Whoever signs in there\nhas an account here by that; their role is what that sign-in says of them, and never more."}
	c.AddCommand(a.houseShow(), a.houseSet(), a.houseTest(), a.houseEnd())
	return c
}

func (a *app) printHouse(x *contract.House) error {
	if a.output != "table" {
		return a.records(x, []string{"on", "issuer", "client"}, [][]string{{strconv.FormatBool(x.On), pick(x.Issuer), pick(x.Client)}})
	}
	if !x.On {
		a.say("There is no sign-in of the organisation's own here. Set it up: wexillum account house set --issuer https://… --client … --role GROUP=ROLE --why …")
		a.say("  it leads back to  %s", x.Back)
		return nil
	}
	a.say("People of ours sign in at %s", *x.Issuer)
	a.say("  as            %s%s", *x.Client, map[bool]string{true: ", a public client",
		false: ", with the secret in " + pick(x.Key)}[x.Key == nil])
	a.say("  leads back to %s", x.Back)
	a.say("  roles         by %s", *x.Claim)
	for _, v := range slices.Sorted(maps.Keys(*x.Roles)) {
		a.say("                %s: %s", v, (*x.Roles)[v])
	}
	a.say("  second factor %s", map[bool]string{true: "its own business",
		false: "of roles that have to have one, it has to say that it asked"}[x.Trusted != nil && *x.Trusted])
	if x.Known != nil {
		a.say("  accounts      %d", *x.Known)
	}
	return nil
}

func (a *app) houseShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "How it is set", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.GetHouse(c.Context())
		var x contract.House
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		return a.printHouse(&x)
	}}
}

func (a *app) houseSet() *cobra.Command {
	var body contract.HouseSet
	var key, claim, why string
	var roles []string
	var trusted bool
	c := &cobra.Command{Use: "set", Short: "Say where people of ours sign in, and which role is whose", Args: cobra.NoArgs,
		Example: "  wexillum account house set --issuer https://id.brackwater.example --client wexillum --key file:/etc/wexillum/sign-in.secret --role gate=administrator --role everybody=member --why \"one sign-in for everything\"",
		RunE: func(c *cobra.Command, _ []string) error {
			body.Roles = map[string]string{}
			for _, x := range roles {
				i := strings.LastIndexByte(x, '=')
				if i < 1 {
					return usage{fmt.Errorf("--role %q: write VALUE=ROLE, as gate=administrator", x)}
				}
				body.Roles[x[:i]] = x[i+1:]
			}
			body.Key, body.Claim, body.Why = optional(key), optional(claim), optional(why)
			if trusted {
				body.Trusted = &trusted
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.SetHouse(c.Context(), body)
			var x contract.House
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printHouse(&x)
		}}
	f := c.Flags()
	f.StringVar(&body.Issuer, "issuer", "", "its address, as https://id.house.example")
	f.StringVar(&body.Client, "client", "", "as whom we are known there (client_id)")
	f.StringVar(&key, "key", "", "where our secret there is: file:PATH or env:NAME; without it we are a public client")
	f.StringVar(&claim, "claim", "", "what of a token names roles; groups where it is left out")
	f.StringArrayVar(&roles, "role", nil, "which role for which value, as gate=administrator; again for each")
	f.BoolVar(&trusted, "trusted", false, "the second factor is that sign-in's own business")
	whyFlag(c, &why)
	return c
}

func (a *app) houseTest() *cobra.Command {
	return &cobra.Command{Use: "test ISSUER", Short: "Ask a sign-in what it says of itself", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.TestHouse(c.Context(), contract.TestHouseJSONRequestBody{Issuer: args[0]})
			var x struct {
				Well      bool    `json:"well"`
				Problem   *string `json:"problem,omitempty"`
				Authorize *string `json:"authorize,omitempty"`
				Back      *string `json:"back,omitempty"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(&x, []string{"well", "problem"}, [][]string{{strconv.FormatBool(x.Well), pick(x.Problem)}})
			}
			if !x.Well {
				a.say("▼ It does not work: %s", pick(x.Problem))
				return nil
			}
			a.say("▲ It answers, and leads people to %s", pick(x.Authorize))
			a.say("  Enter there as where it leads back to (redirect URI): %s", pick(x.Back))
			return nil
		}}
}

func (a *app) houseEnd() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "end", Short: "Let nobody sign in by it any more; whoever did is signed out", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndHouse(c.Context(), &contract.EndHouseParams{Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("It is gone, and whoever came from there is signed out. Accounts with passwords stay as they are.")
			return nil
		}}
	whyFlag(c, &why)
	return c
}

func (a *app) passkey() *cobra.Command {
	c := &cobra.Command{Use: "passkey", Short: "One's own passkeys; they are added in the console"}
	c.AddCommand(&cobra.Command{Use: "list", Short: "One's own passkeys", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ListPasskeys(c.Context())
		var x struct {
			Passkeys []contract.Passkey `json:"passkeys"`
		}
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		if len(x.Passkeys) == 0 && a.output == "table" {
			a.say("You have none. Add one on your account's page in the console.")
			return nil
		}
		rows := [][]string{}
		for i := range x.Passkeys {
			p := &x.Passkeys[i]
			rows = append(rows, []string{p.Id, p.Name, day(p.Made), whenSaid(p.Used)})
		}
		return a.records(x.Passkeys, []string{"id", "name", "since", "used last"}, rows)
	}}, &cobra.Command{Use: "remove ID", Short: "Take one of them away", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndPasskey(c.Context(), args[0])
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("It works no longer.")
			return nil
		}})
	return c
}
