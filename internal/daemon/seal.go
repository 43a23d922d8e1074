package daemon

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/cli"
	"wexillum.example/internal/config"
	"wexillum.example/internal/store"
	"wexillum.example/internal/vault"
)

// sealing has what must be readable again sealed with the keys of a file; an empty one is none.
func sealing(ctx context.Context, st *store.Store, file string, demo bool, log *slog.Logger) error {
	var v *vault.Vault
	if file != "" {
		var err error
		if v, err = vault.Read(file); err != nil {
			return usage(fmt.Errorf("key_file: %w", err))
		}
	}
	n, err := st.SetVault(ctx, v)
	if errors.Is(err, vault.ErrNoKey) {
		return usage(fmt.Errorf("%w\nname the file that holds it as key_file; where it is lost for good: wexillum seal-key --lost", err))
	}
	switch {
	case err != nil:
		return err
	case n > 0:
		log.Info("keys were sealed anew", "keys", n)
	case v == nil && !demo:
		log.Warn("the keys that sign for us stand in the database in clear; wexillum seal-key makes a file for key_file")
	}
	return nil
}

// sealKey makes a key file, adds a key to one, or gives up what nothing opens any more.
func (a *app) sealKey() *cobra.Command {
	var lost bool
	var file, why string
	var named func() (config.Config, error)
	c := &cobra.Command{
		Use:   "seal-key [FILE]",
		Short: cli.About("seal-key"),
		Long: cli.About("seal-key") +
			".\nWhere the file is there already, a new key is put before the others: it seals from the next start on, and what the\n" +
			"others sealed is sealed anew then; after that start the others may be taken out. Keep a copy of the file apart from\nthe database and its backups: without it, what it sealed is lost.",
		Example: "  wexillum seal-key /etc/wexillum/keys\n  wexillum seal-key --lost --database \"$WEXILLUM_DATABASE\" --why \"the file went with the machine\"",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if lost {
				cfg, err := named()
				if err != nil {
					return err
				}
				// What the file of settings names opens what it opens, whether or not it is named here too.
				return a.loseKeys(c.Context(), cfg["database"].Value, cmp.Or(file, cfg["key_file"].Value), why)
			}
			if len(args) == 0 {
				return usage(errors.New("name the file"))
			}
			old, err := os.ReadFile(args[0])
			if err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			if err == nil {
				if _, err := vault.Read(args[0]); err != nil {
					return err
				}
			}
			half := args[0] + ".half"
			if err := os.WriteFile(half, []byte(vault.Make()+"\n"+string(old)), 0o600); err != nil {
				return err
			}
			if err := os.Rename(half, args[0]); err != nil {
				return err
			}
			if len(old) > 0 {
				a.Say("%s has a new key before the others. Start every service again; after that the others may be taken out.", args[0])
				return nil
			}
			a.Say("%s is made. Set key_file to it and start the service again; keep a copy apart from the database and its backups.", args[0])
			return nil
		},
	}
	f := c.Flags()
	f.BoolVar(&lost, "lost", false, "give up the keys that sign for us which no key at hand opens; the next start makes new ones")
	named = database(f)
	f.StringVar(&file, "key-file", "", "with --lost: the key file that there is, in place of the one of the settings")
	f.StringVar(&why, "why", "", "with --lost: the reason that the journal keeps")
	return c
}

func (a *app) loseKeys(ctx context.Context, dsn, file, why string) error {
	if strings.TrimSpace(why) == "" {
		return usage(errors.New("--why is needed: the journal keeps it"))
	}
	var v *vault.Vault
	if file != "" {
		var err error
		if v, err = vault.Read(file); err != nil {
			return err
		}
	}
	st, err := store.Open(ctx, dsn, nil)
	if err != nil {
		return err
	}
	defer st.Close()
	var gone []string
	if _, err := st.Change(ctx, onDatabase, why, func(t *store.Tx) error {
		gone, err = t.LoseKeys(v)
		return err
	}); err != nil {
		return err
	}
	if len(gone) == 0 {
		a.Say("Nothing is lost: every key opens.")
		return nil
	}
	a.Say("%s given up. The next start makes a new one; partners who pinned the old ones confirm it by another way.",
		map[bool]string{true: "One key is", false: fmt.Sprintf("%d keys are", len(gone))}[len(gone) == 1])
	return nil
}
