package daemon

import (
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/cli"
	"wexillum.example/internal/config"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

// recoverAccount lets an account in again on the database itself, for whoever keeps the machine: when nobody else can sign in.
func (a *app) recoverAccount() *cobra.Command {
	var why string
	var named func() (config.Config, error)
	var administrator bool
	c := &cobra.Command{
		Use:   "recover NAME",
		Short: cli.About("recover"),
		Long: cli.About("recover") +
			".\nIts sessions and tokens end, and the journal says so. The password is prompted for, or read\nfrom WEXILLUM_PASSWORD or standard input.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cfg, err := named()
			if err != nil {
				return err
			}
			if strings.TrimSpace(why) == "" {
				return usage(errors.New("--why is needed: the journal keeps it"))
			}
			ctx := c.Context()
			st, err := store.Open(ctx, cfg["database"].Value, nil)
			if err != nil {
				return err
			}
			defer st.Close()
			svc, err := service.New(ctx, st, nil, a.logger("error"))
			if err != nil {
				return err
			}
			p, err := a.NewPassword()
			if err != nil {
				return err
			}
			enabled := false
			change := service.AccountChange{Password: p, Disabled: &enabled}
			if role := string(service.Administrator); administrator {
				change.Role = &role
			}
			if _, err := svc.ChangeAccount(ctx, onDatabase, why, args[0], change); err != nil {
				return err
			}
			a.Say("%s may sign in with the new password; no second factor is asked for.", args[0])
			return nil
		},
	}
	named = database(c.Flags())
	c.Flags().StringVar(&why, "why", "", "the reason that the journal keeps")
	c.Flags().BoolVar(&administrator, "administrator", false, "make it an administrator, too")
	return c
}

// firstAccount makes the first administrator of a new installation, on the
// database itself: nobody can sign in yet.
func (a *app) firstAccount() *cobra.Command {
	var named func() (config.Config, error)
	c := &cobra.Command{
		Use:   "first NAME",
		Short: cli.About("first"),
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cfg, err := named()
			if err != nil {
				return err
			}
			ctx := c.Context()
			st, err := store.Open(ctx, cfg["database"].Value, nil)
			if err != nil {
				return err
			}
			defer st.Close()
			if err := st.Migrate(ctx); err != nil {
				return err
			}
			svc, err := service.New(ctx, st, nil, a.logger("error"))
			if err != nil {
				return err
			}
			have, err := svc.Accounts(ctx)
			if err != nil {
				return err
			}
			if len(have) > 0 {
				return errors.New("there are accounts already; sign in and use wexillum account make")
			}
			p, err := a.NewPassword()
			if err != nil {
				return err
			}
			if err := svc.MakeAccount(ctx, args[0], "first administrator", service.Account{Name: args[0], Role: string(service.Administrator)},
				p); err != nil {
				return err
			}
			a.Say("%s is administrator.", args[0])
			return nil
		},
	}
	named = database(c.Flags())
	return c
}

func (a *app) generate() *cobra.Command {
	var seed uint64
	var size worldgen.Size
	var dsn string
	c := &cobra.Command{
		Use:     "generate",
		Short:   cli.About("generate"),
		Args:    cobra.NoArgs,
		Example: "  wexillum generate --guests 1000 --seed 7 > world.yaml\n  wexillum generate --guests 100000 --database 'user:password@tcp(127.0.0.1:3306)/big'",
		RunE: func(c *cobra.Command, _ []string) error {
			if size.Guests < 1 || size.Guests > 2_000_000 || size.Grants < 0 || size.Grants > 20_000_000 || size.Partners < 0 ||
				size.Partners > 100_000 ||
				size.Spaces < 0 ||
				size.Items < 0 ||
				size.Spaces > 1_000_000 ||
				size.Items > 10_000_000 {
				return usage(
					errors.New(
						"a size is out of bounds: guests 1 to 2000000, grants to 20000000, items to 10000000, spaces to 1000000, partners to 100000",
					),
				)
			}
			w := worldgen.Generate(seed, size, moment.Of(time.Now()))
			if dsn == "" {
				out := worldfile.NewWriter(a.Out(), w.Organisation)
				return errors.Join(out.Add(w), out.Close())
			}
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt)
			defer stop()
			st, err := store.Open(ctx, dsn, nil)
			if err != nil {
				return err
			}
			defer st.Close()
			if err := st.Migrate(ctx); err != nil {
				return err
			}
			start, last := time.Now(), time.Time{}
			h, err := st.Import(ctx, "generate", fmt.Sprintf("generated from seed %d", seed), w, func(done, total int) {
				if time.Since(last) > time.Second || done == total {
					last = time.Now()
					fmt.Fprintf(a.Err(), "\r%d of %d rows", done, total)
				}
			})
			fmt.Fprintln(a.Err())
			if err != nil {
				return err
			}
			a.Say(
				"%d guests and %d grants written in %.1f s; revision %d.",
				len(w.Guests),
				len(w.Grants),
				time.Since(start).Seconds(),
				h.Revision,
			)
			return nil
		},
	}
	f := c.Flags()
	f.Uint64Var(&seed, "seed", 1, "the same seed gives the same world")
	f.IntVar(&size.Guests, "guests", 1000, "records of outsiders; the other sizes follow from it where they are not given")
	f.IntVar(&size.Grants, "grants", 0, "grants")
	f.IntVar(&size.Partners, "partners", 0, "partners, a few with most of the guests")
	f.IntVar(&size.Spaces, "spaces", 0, "spaces")
	f.IntVar(&size.Items, "items", 0, "items")
	f.StringVar(&dsn, "database", "", "an empty database to load it into")
	return c
}
