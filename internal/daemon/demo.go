package daemon

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/cli"
	"wexillum.example/internal/config"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/service"
	"wexillum.example/internal/standin"
)

func (a *app) demo() *cobra.Command {
	var dir, listen, neighbour, mailPage, logLevel string
	var reset, real bool
	c := &cobra.Command{
		Use:   "demo",
		Short: cli.About("demo"),
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx := c.Context()
			start := time.Now()
			// Real servers begin empty, and so does what is known of them.
			own, err := a.ownDatabase(ctx, dir, logLevel, reset || real)
			if err != nil {
				return err
			}
			defer own.close()
			db, log := own.db, own.log
			if !c.Flags().Changed("listen") {
				listen = freeOr(listen)
			}
			second, err := demo.Second()
			if err != nil {
				return err
			}
			if err := second.Keep(filepath.Join(dir, "neighbour.json")); err != nil {
				return err
			}
			if err := second.People.Keep(filepath.Join(dir, "neighbour-people.json")); err != nil {
				return err
			}
			if err := demo.People(second.People); err != nil {
				return err
			}
			secondAt, stop, err := second.Listen(neighbour)
			if err != nil {
				return err
			}
			defer stop()
			post, err := standin.NewMailServer("127.0.0.1:0", mailPage)
			if err != nil {
				return err
			}
			defer post.Close()
			if err := post.Keep(filepath.Join(dir, "mail.json")); err != nil {
				return err
			}
			key := rand.Text()
			if err := os.Setenv(demo.SuiteKey, key); err != nil {
				return err
			}
			suiteAt := map[string]string{}
			for i, name := range []string{"quay", "parley", "ledger"} {
				suiteAt[name] = suiteOn(listen, i)
			}
			// What others are told before anybody answers there is open from now on, so that nobody else takes it.
			open := map[string]net.Listener{}
			held := func(address string) (string, error) {
				l, err := net.Listen("tcp", address)
				if err != nil {
					return "", err
				}
				open[l.Addr().String()] = l
				return l.Addr().String(), nil
			}
			defer func() {
				for _, l := range open {
					_ = l.Close()
				}
			}()
			asked, err := held(suiteOn(listen, 4))
			if err != nil {
				return err
			}
			var suite map[string]string
			var theirs string
			var stopSuite func()
			var said []string
			var told sync.Mutex
			if real { // its servers are told beforehand where they ask
				if listen, err = held(listen); err != nil {
					return err
				}
				suite, stopSuite, err = demo.Real(ctx, filepath.Join(dir, "suite"), key, suiteAt["ledger"], asked, post.Address, listen,
					func(line string) {
						told.Lock()
						defer told.Unlock()
						said = append(said, strings.TrimPrefix(line, "# "))
					})
			} else {
				suite, theirs, stopSuite, err = demo.Suites(ctx, filepath.Join(dir, "suite"), key, suiteAt, suiteOn(listen, 3), asked)
			}
			if err != nil {
				return err
			}
			defer stopSuite()
			fill := func(ctx context.Context, svc *service.Service) error {
				if err := demo.Fill(ctx, svc); err != nil {
					return err
				}
				if err := demo.Neighbour(ctx, svc, secondAt); err != nil {
					return err
				}
				if err := demo.FeedOut(ctx, svc, secondAt, dir); err != nil {
					return err
				}
				if real {
					if err := demo.Decides(ctx, svc, filepath.Join(dir, "suite")); err != nil {
						return err
					}
				}
				return demo.Systems(ctx, svc, suite)
			}
			cfg, err := config.Load(
				"",
				func(string) (string, bool) { return "", false },
				map[string]string{"listen": listen, "database": db.DSN("wexillum"), "publish_statement": "yes", "statement_hosts": "any",
					"smtp": post.Address, "smtp_tls": "none", "mail_from": demo.MailFrom, "mail_policy": asked},
			)
			if err != nil {
				return usage(err)
			}
			return a.run(ctx, cfg, log, running{demo: true, open: open, faster: demo.SuiteFaster, ends: db.Exited(), fill: fill,
				ready: func(address string) {
					a.Printf("\n  Wexillum with the demo world of the Brackwater Museum of Navigation\n\n")
					a.Printf("  console   %s\n", address)
					a.Printf("  partner   %s  (stands in for Ilvane Conservation and publishes a statement)\n", secondAt)
					a.Printf("  mail      %s  (stands in for everybody's mail server and shows what came)\n", post.URL)
					for _, name := range []string{"quay", "parley", "ledger"} {
						if at := suite[name]; at != "" {
							a.Printf("  %-9s %s  (stands in for a part of the suite; an hour is a minute there)\n", name, at)
						}
					}
					told.Lock()
					if len(said) > 0 {
						a.Printf("  servers   real ones, of open protocols, each with a program beside it that speaks for it:\n")
					}
					for _, line := range said {
						a.Printf("            %s\n", line)
					}
					told.Unlock()
					if theirs != "" {
						a.Printf("  %-9s %s  (stands in for the chat of Oskelund, whose house must let its people go)\n", "theirs", theirs)
					}
					a.Printf("  guests    %s/door\n", address)
					a.Printf("  client    bin/wexillum login --server %s --name %s\n\n", address, demo.Accounts[0].Name)
					for _, acc := range demo.Accounts {
						a.Printf("  sign in   %-10s %-24s %s\n", acc.Name, acc.Password, acc.Role)
					}
					a.Printf("\n  Ready after %.1f s. Logs and data are in %s. Ctrl-C stops everything.\n\n", time.Since(start).Seconds(), dir)
				}})
		},
	}
	c.Flags().StringVar(&dir, "dir", "run/demo", "where the database and the logs are kept")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8470", "address and port; another free port is taken where this one is not")
	c.Flags().
		StringVar(&neighbour, "neighbour", "127.0.0.1:8471",
			"where the second organisation is served; another free port is taken where this one is not")
	c.Flags().
		StringVar(&mailPage, "mail", "127.0.0.1:8472", "where the mail that came is shown; another free port is taken where this one is not")
	c.Flags().BoolVar(&real, "real", false,
		"in place of the stand-ins for files, chat and calendars start real servers on loopback, in a root of their own; it takes root, and begins with a fresh demo world each time")
	c.Flags().BoolVar(&reset, "reset", false, "remove what is kept and begin with a fresh demo world")
	c.Flags().StringVar(&logLevel, "log-level", "info", "what is logged: debug, info, warn or error")
	return c
}

// suiteOn is where a program of the demo's suite listens: three ports behind the service's, or a free one.
func suiteOn(listen string, i int) string {
	host, port, err := net.SplitHostPort(listen)
	n, bad := strconv.Atoi(port)
	if err != nil || bad != nil || n == 0 {
		return "127.0.0.1:0"
	}
	return freeOr(net.JoinHostPort(host, strconv.Itoa(n+3+i)))
}

// lockDir keeps two services from running on one directory. The lock ends with the
// process, however it ends.
func lockDir(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("another service runs on %s; stop it first, or name another --dir", dir)
	}
	return f, nil
}

// resetDir removes what a demo keeps, and nothing that it did not make.
func resetDir(dir string) error {
	bounded, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := mariadb.StopLeftover(bounded, filepath.Join(dir, "db")); err != nil {
		return err
	}
	for _, name := range []string{"db", "service.log", "neighbour.json", "neighbour-people.json", "neighbour.token", "mail.json", "suite"} {
		if err := os.RemoveAll(filepath.Join(dir, name)); err != nil {
			return err
		}
	}
	return nil
}

// freeOr returns the address where its port is free, else one with any port.
func freeOr(address string) string {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return "127.0.0.1:0"
	}
	_ = l.Close()
	return address
}
