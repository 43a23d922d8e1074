// Command wexillum-beside stands beside one server of an open protocol and speaks for it (docs/connector.md); or, as
// wexillum-beside suite, starts servers of every kind on loopback with itself beside each.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/beside/aclcalendar"
	"wexillum.example/internal/beside/davcalendar"
	"wexillum.example/internal/beside/davfiles"
	"wexillum.example/internal/beside/ldapdir"
	"wexillum.example/internal/beside/mailforward"
	"wexillum.example/internal/beside/videorooms"
	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/servers"
)

// keyName names the environment variable with the token that a call must carry.
const keyName = "WEXILLUM_BESIDE_KEY"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := command().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "wexillum-beside:", err)
		os.Exit(1)
	}
}

func command() *cobra.Command {
	c := &cobra.Command{
		Use: "wexillum-beside", Short: "Stands beside a server and speaks for it to Wexillum", SilenceUsage: true, SilenceErrors: true,
		Long: "Stands beside a server and speaks for it to Wexillum. The token that every call must carry is in the environment variable " +
			keyName + ".",
	}
	c.PersistentPreRunE = func(*cobra.Command, []string) error {
		if os.Getenv(keyName) == "" { // before anything is started or written
			return errors.New("set the token that every call must carry in the environment variable " + keyName)
		}
		return nil
	}
	listen := c.PersistentFlags().String("listen", "127.0.0.1:8480", "address and port to be called at")
	serve := func(ctx context.Context, s beside.Server) error {
		at, stop, err := begin(*listen, s)
		if err != nil {
			return err
		}
		defer stop()
		fmt.Println(s.Describe().Title + " speaks at " + at)
		<-ctx.Done()
		return nil
	}
	c.AddCommand(files(serve), chat(serve), calendars(serve), rights(serve), directory(serve), forwards(serve), meetings(serve), suite())
	return c
}

// begin serves what stands beside a server.
func begin(listen string, s beside.Server) (at string, stop func(), err error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return "", nil, err
	}
	srv := &http.Server{Handler: beside.Handler(s, os.Getenv(keyName)), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = srv.Serve(l) }()
	return "http://" + l.Addr().String(), func() { _ = srv.Close() }, nil
}

type serving func(context.Context, beside.Server) error

func files(serve serving) *cobra.Command {
	var x davfiles.Config
	c := &cobra.Command{Use: "files", Short: "Beside a WebDAV server whose folders say who may enter (Apache)", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := davfiles.New(x)
			if err != nil {
				return err
			}
			return serve(c.Context(), s)
		}}
	f := c.Flags()
	f.StringVar(&x.Files, "files", "", "the folder that the server serves")
	f.StringVar(&x.Conf, "conf", "", "the folder of its accounts and maps")
	f.StringVar(&x.Log, "log", "", "its access log, of which opened links are counted")
	f.StringVar(&x.Server, "server", "", "where it listens, as http://127.0.0.1:8080")
	f.StringSliceVar(&x.Ours, "ours", nil, "our own domains")
	return required(c, "files", "conf", "server")
}

func chat(serve serving) *cobra.Command {
	var x xmppchat.Config
	var check, reload, ours, keeper string
	var out []string
	c := &cobra.Command{Use: "chat", Short: "Beside an XMPP server with rules for what it delivers (Prosody)", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if ours != "" {
				if x.Ours, err = account(ours); err != nil {
					return err
				}
			}
			if keeper != "" {
				if x.Keeper, err = account(keeper); err != nil {
					return err
				}
			}
			for _, text := range out {
				a, err := account(text)
				if err != nil {
					return err
				}
				x.Out = append(x.Out, a)
			}
			x.Check = func(ctx context.Context, file string) error {
				return shell(ctx, strings.ReplaceAll(check, "FILE", file))
			}
			x.Reload = func(ctx context.Context) error { return shell(ctx, reload) }
			s, err := xmppchat.New(c.Context(), x)
			if err != nil {
				return err
			}
			return serve(c.Context(), s)
		}}
	f := c.Flags()
	f.StringVar(&x.Rules, "rules", "", "the file of rules that the server's configuration names")
	f.StringSliceVar(&x.Hosts, "hosts", nil, "our hosts, of our people first")
	f.StringVar(&x.Guests, "guests", "", "the host of guests")
	f.StringVar(&check, "check", "prosodyctl mod_firewall FILE", "the command that compiles a file of rules")
	f.StringVar(&reload, "reload", "prosodyctl reload", "the command that makes the server read its rules again")
	f.StringVar(&ours, "ours", "", "a trial account of ours, as trial@ours.example=FILE@HOST:PORT, with its password in the file")
	f.StringVar(&x.Rooms, "rooms", "", "the host of rooms; rooms are not kept without it")
	f.StringVar(&keeper, "keeper", "", "the account that administers rooms, as wexillum@ours.example=FILE@HOST:PORT")
	f.StringArrayVar(&out, "out", nil, "a trial account elsewhere; may be repeated")
	return required(c, "rules", "hosts")
}

func calendars(serve serving) *cobra.Command {
	var x davcalendar.Config
	c := &cobra.Command{Use: "calendars", Short: "Beside a CalDAV server with a file of rights (Radicale)", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := davcalendar.New(x)
			if err != nil {
				return err
			}
			return serve(c.Context(), s)
		}}
	f := c.Flags()
	f.StringVar(&x.Rights, "rights", "", "the file of rights")
	f.StringVar(&x.Accounts, "accounts", "", "the file of accounts")
	f.StringVar(&x.Server, "server", "", "where it listens, as http://127.0.0.1:5232")
	f.StringVar(&x.Ours, "ours", "", "our own domain")
	return required(c, "rights", "accounts", "server", "ours")
}

func rights(serve serving) *cobra.Command {
	var x aclcalendar.Config
	var password, account string
	c := &cobra.Command{Use: "calendar-rights", Short: "Beside a CalDAV server whose calendars carry lists of rights (Cyrus)",
		Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
			b, err := os.ReadFile(password)
			if err != nil {
				return err
			}
			x.Password = strings.TrimSpace(string(b))
			x.Account = func(ctx context.Context, address, password string) error {
				cmd := exec.CommandContext(ctx, "/bin/sh", "-c", strings.ReplaceAll(account, "ADDRESS", "'"+strings.ReplaceAll(address, "'", "")+"'"))
				cmd.Stdin = strings.NewReader(password)
				out, err := cmd.CombinedOutput()
				if err != nil {
					err = fmt.Errorf("%s: %w: %s", account, err, strings.TrimSpace(string(out)))
				}
				return err
			}
			s, err := aclcalendar.New(x)
			if err != nil {
				return err
			}
			return serve(c.Context(), s)
		}}
	f := c.Flags()
	f.StringVar(&x.IMAP, "imap", "", "host and port of IMAP")
	f.StringVar(&x.CalDAV, "caldav", "", "where its calendars are, as http://127.0.0.1:8080")
	f.StringVar(&x.Admin, "admin", "cyrus", "who administers it")
	f.StringVar(&password, "password-file", "", "the file with their password")
	f.StringVar(&x.Ours, "ours", "", "our own domain")
	f.StringVar(&x.Settings, "settings", "", "the file that says what the rights are to be")
	f.StringVar(&account, "account", "",
		"the command that makes an account for a trial: ADDRESS stands for its address, its password comes at the standard input, and an empty one takes it away")
	return required(c, "imap", "caldav", "password-file", "ours", "settings", "account")
}

func directory(serve serving) *cobra.Command {
	var x ldapdir.Config
	var password, secret, out string
	var first bool
	c := &cobra.Command{Use: "directory", Short: "Beside a directory server (OpenLDAP)", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			for file, to := range map[string]*string{password: &x.Password, secret: &x.Secret} {
				b, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				*to = strings.TrimSpace(string(b))
			}
			if out != "" {
				x.Out = func(ctx context.Context, guest string) error {
					return shell(ctx, strings.ReplaceAll(strings.ReplaceAll(out, "ADDRESS", guest), "NODE", ldapdir.Node(guest)))
				}
			}
			s := &ldapdir.Server{Config: x}
			if first {
				if err := s.Begin(); err != nil {
					return err
				}
			}
			return serve(c.Context(), s)
		}}
	f := c.Flags()
	f.StringVar(&x.Server, "server", "", "where it listens, as ldap://127.0.0.1:389")
	f.StringVar(&x.Base, "base", "", "as dc=ours,dc=example")
	f.StringVar(&x.Admin, "admin", "", "who writes entries")
	f.StringVar(&password, "password-file", "", "the file with their password")
	f.StringVar(&x.Database, "database", "olcDatabase={1}mdb,cn=config", "the entry of the database in the server's configuration")
	f.StringVar(&x.Keeper, "keeper", "cn=admin,cn=config", "who writes the configuration")
	f.StringVar(&secret, "keeper-password-file", "", "the file with their password")
	f.StringVar(&out, "out", "",
		"the command that ends what a guest has open elsewhere, once they are suspended or gone: ADDRESS stands for their address, NODE for the same as a chat writes it")
	f.BoolVar(&first, "begin", false, "write the entries that everything lies below, and rules of access that let nobody in")
	return required(c, "server", "base", "admin", "password-file", "keeper-password-file")
}

func forwards(serve serving) *cobra.Command {
	var x mailforward.Config
	var reload string
	c := &cobra.Command{Use: "mail", Short: "Beside a mail server that asks before a letter goes on (Postfix and Dovecot)", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			x.Reload = func(ctx context.Context) error { return shell(ctx, reload) }
			s := &mailforward.Server{Config: x}
			if err := s.Begin(); err != nil {
				return err
			}
			return serve(c.Context(), s)
		}}
	f := c.Flags()
	f.StringVar(&x.Main, "main", "/etc/postfix/main.cf", "Postfix's main.cf")
	f.StringVar(&x.Master, "master", "/etc/postfix/master.cf", "and master.cf")
	f.StringVar(&x.Own, "own", "", "the folder of people's own scripts")
	f.StringVar(&x.Before, "before", "", "the folder of those of administrators")
	f.StringVar(&x.Submission, "submission", "", "host and port of the listener that asks")
	f.StringVar(&x.Aliases, "aliases", "", "the file of administrators' aliases; without it their forwards are scripts, too")
	f.StringVar(&x.Transport, "onward", "/etc/postfix/onward", "the file that says where aliases go on to")
	f.StringVar(&x.Onward, "out", "smtp:", "how mail goes out, as smtp: or smtp:[mx.ours.example]")
	f.StringVar(&reload, "reload", "postfix reload", "the command that makes the server read both again")
	return required(c, "own", "before", "submission")
}

func meetings(serve serving) *cobra.Command {
	var x videorooms.Config
	var key, reception string
	var d videorooms.Decisions
	c := &cobra.Command{
		Use: "meetings", Short: "Beside a conference server whose rooms are entered with tokens (Janus)", Args: cobra.NoArgs,
		Long: `Stands beside a conference server whose rooms are entered with tokens (Janus). At --reception whoever signs people in asks for a
pass: POST {"meeting": ID, "address": ADDRESS}, with the token that every call must carry.`,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := os.ReadFile(key)
			if err != nil {
				return err
			}
			x.Key, x.Asks = strings.TrimSpace(string(b)), d.Ask
			s := videorooms.New(x)
			l, err := net.Listen("tcp", reception)
			if err != nil {
				return err
			}
			srv := &http.Server{Handler: s.Reception(os.Getenv(keyName)), ReadHeaderTimeout: 10 * time.Second}
			defer srv.Close()
			go func() { _ = srv.Serve(l) }()
			fmt.Println("The reception is at http://" + l.Addr().String())
			go s.Watch(c.Context(), func(err error) { fmt.Fprintln(os.Stderr, "wexillum-beside:", err) })
			return serve(c.Context(), s)
		},
	}
	f := c.Flags()
	f.StringVar(&x.Server, "server", "", "where it listens, as http://127.0.0.1:8088/janus")
	f.StringVar(&key, "key-file", "", "the file with the key with which rooms are made")
	f.StringSliceVar(&x.Ours, "ours", nil, "our own domains")
	f.StringVar(&d.URL, "service", "http://127.0.0.1:8470", "where Wexillum decides")
	f.StringVar(&d.TokenFile, "decisions-token-file", "", "the file with a token for decisions (wexillum token make NAME --purpose decisions)")
	f.StringVar(&reception, "reception", "127.0.0.1:8481", "address and port at which passes are given")
	f.DurationVar(&x.Every, "every", 5*time.Second, "how often it is asked about whoever is inside")
	f.DurationVar(&x.Stays, "stays", time.Minute, "how long somebody stays inside about whom nobody answers")
	return required(c, "server", "key-file", "ours", "decisions-token-file")
}

func required(c *cobra.Command, flags ...string) *cobra.Command {
	for _, f := range flags {
		_ = c.MarkFlagRequired(f)
	}
	return c
}

// account reads ADDRESS=FILE@HOST:PORT.
func account(text string) (a xmppchat.Account, err error) {
	address, rest, ok := strings.Cut(text, "=")
	file, server, there := strings.Cut(rest, "@")
	if !ok || !there {
		return a, fmt.Errorf("%q: write ADDRESS=FILE@HOST:PORT", text)
	}
	b, err := os.ReadFile(file)
	return xmppchat.Account{Address: address, Password: strings.TrimSpace(string(b)), Server: server}, err
}

// shell runs a command that an administrator wrote.
func shell(ctx context.Context, line string) error {
	out, err := exec.CommandContext(ctx, "/bin/sh", "-c", line).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", line, err, strings.TrimSpace(string(out)))
	}
	return nil
}

// suite starts servers of every kind, and a partner's chat, and says where each speaks: a line each, NAME ADDRESS.
func suite() *cobra.Command {
	var dir, domain, partner string
	var asked servers.Asked
	var decisions videorooms.Decisions
	var withInput bool
	c := &cobra.Command{
		Use: "suite", Short: "Start real servers of every kind on loopback, with what speaks for each beside it", Args: cobra.NoArgs,
		Long: `Starts real servers of every kind on loopback, with what speaks for each beside it: files (Apache), chat (Prosody, and
ejabberd as a partner's), calendars (Cyrus), a directory (OpenLDAP), mail (Postfix and Dovecot) and meetings (Janus). Their
packages are fetched from Debian once and unpacked into a folder; nothing of this machine is installed, enabled or changed. It takes root, since the servers run
in a root of their own. Ctrl-C ends all.`,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, stop := context.WithCancel(c.Context())
			defer stop()
			if withInput {
				go func() {
					_, _ = io.Copy(io.Discard, os.Stdin)
					stop()
				}()
			}
			for _, d := range []string{domain, partner} {
				if _, err := addr.ParseDomain(d); err != nil {
					return err
				}
			}
			r, err := servers.Open(ctx, dir, os.Stderr)
			if err != nil {
				return err
			}
			if decisions.URL != "" {
				asked.Meetings = &decisions
			}
			s, err := r.Suite(ctx, domain, partner, asked)
			if err != nil {
				return err
			}
			defer s.Stop()
			for _, x := range s.Beside() {
				at, stop, err := begin("127.0.0.1:0", x.Server)
				if err != nil {
					return err
				}
				defer stop()
				fmt.Printf("%s %s\n", x.Name, at)
			}
			for _, l := range s.Says() {
				fmt.Println(l)
			}
			<-ctx.Done()
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", servers.Kept(), "where the packages are kept and unpacked")
	c.Flags().StringVar(&domain, "domain", "ours.example", "our own domain")
	c.Flags().StringVar(&partner, "partner", "partner.example", "the domain of a partner, whose chat runs beside ours")
	c.Flags().BoolVar(&withInput, "with-input", false, "end when the standard input ends, as it does with whoever started it")
	c.Flags().StringVar(&decisions.URL, "service", "", "where Wexillum decides who comes into a meeting; no conference server without it")
	c.Flags().StringVar(&decisions.TokenFile, "decisions-token-file", "", "the file with a token for decisions")
	c.Flags().IntVar(&asked.Outside, "outside", 0, "the port of loopback that mail for elsewhere goes to; no mail server without it")
	c.Flags().IntVar(&asked.Forwards, "asks", 0, "the port of loopback at which is asked whether a letter may go on")
	return c
}
