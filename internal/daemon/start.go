package daemon

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/cli"
	"wexillum.example/internal/config"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/service"
)

// own is a database server of one's own in a directory, with the log beside it.
type own struct {
	db    *mariadb.Server
	log   *slog.Logger
	close func()
}

// ownDatabase starts the database server of a directory, makes its database and opens the log.
func (a *app) ownDatabase(ctx context.Context, dir, logLevel string, reset bool) (*own, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(logLevel)); err != nil {
		return nil, usage(fmt.Errorf("--log-level %q: write debug, info, warn or error", logLevel))
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	lock, err := lockDir(dir)
	if err != nil {
		return nil, err
	}
	closers := []func(){func() { _ = lock.Close() }}
	shut := func() {
		for i := len(closers) - 1; i >= 0; i-- {
			closers[i]()
		}
	}
	if reset {
		if err := resetDir(dir); err != nil {
			shut()
			return nil, err
		}
	}
	bounded, cancel := context.WithTimeout(ctx, 2*time.Minute)
	db, err := mariadb.Start(bounded, filepath.Join(dir, "db"))
	cancel()
	if err != nil {
		shut()
		return nil, err
	}
	closers = append(closers, func() {
		if err := db.Stop(); err != nil {
			fmt.Fprintln(a.Err(), "wexillum: "+err.Error())
		}
		a.Say("Stopped. The data stays in %s; the next start goes on with it.", dir)
	})
	if err := db.Create(ctx, "wexillum"); err != nil {
		shut()
		return nil, err
	}
	logs, err := os.OpenFile(filepath.Join(dir, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		shut()
		return nil, err
	}
	closers = append(closers, func() { _ = logs.Close() })
	return &own{db, slog.New(slog.NewJSONHandler(logs, &slog.HandlerOptions{Level: level})), shut}, nil
}

// start runs an installation of one's own.
func (a *app) start() *cobra.Command {
	var dir, logLevel string
	c := &cobra.Command{
		Use:   "start",
		Short: cli.About("start"),
		Long: "Run an installation of your own: its database is kept in a directory. The first time\n" +
			"it prints an address that works once, where you make the first administrator; the\n" +
			"console then leads through the beginning. Nothing is mailed or carried out before you\n" +
			"say so. The settings are those of wexillum serve, but for the database.",
		Args: cobra.NoArgs,
	}
	read := configure(c)
	_ = c.Flags().MarkHidden("database")
	c.Flags().StringVar(&dir, "dir", "run/wexillum", "where the database and the logs are kept")
	c.Flags().StringVar(&logLevel, "log", "info", "what is logged: debug, info, warn or error")
	c.RunE = func(c *cobra.Command, _ []string) error {
		ctx := c.Context()
		begun := time.Now()
		cfg, err := read()
		if err != nil {
			return usage(err)
		}
		o, err := a.ownDatabase(ctx, dir, logLevel, false)
		if err != nil {
			return err
		}
		defer o.close()
		cfg["database"] = config.Value{Value: o.db.DSN("wexillum"), From: "the database in " + dir}
		key := ""
		fill := func(ctx context.Context, svc *service.Service) (err error) {
			key, err = svc.OpenBeginning(ctx)
			return err
		}
		return a.run(ctx, cfg, o.log, running{ends: o.db.Exited(), fill: fill, ready: func(address string) {
			public := address
			if at := cfg["public_url"].Value; at != "" {
				public = at
			}
			a.Printf("\n  Wexillum runs at %s\n\n", public)
			if key != "" {
				a.Printf("  Make the first administrator here. The address works once, within a day:\n\n")
				a.Printf("  %s/begin#%s\n\n", public, key)
			} else {
				a.Printf("  client    wexillum login --server %s --name …\n\n", public)
			}
			if cfg["smtp"].Value == "" {
				a.Printf("  No mail server is named (--smtp): mail waits, and nothing is sent.\n")
			}
			a.Printf("  Ready after %.1f s. Logs and data are in %s. Ctrl-C stops everything.\n\n", time.Since(begun).Seconds(), dir)
		}})
	}
	return c
}
