package daemon

import (
	"cmp"
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"wexillum.example/console"
	"wexillum.example/internal/api"
	"wexillum.example/internal/cli"
	"wexillum.example/internal/config"
	"wexillum.example/internal/connector"
	"wexillum.example/internal/logs"
	"wexillum.example/internal/mailpolicy"
	"wexillum.example/internal/service"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
	"wexillum.example/internal/traces"
)

// configure adds the settings of the service as flags and returns how to read them. Of a command that uses some of them alone, the help
// names those.
func configure(c *cobra.Command, used ...string) func() (config.Config, error) {
	var file string
	c.Flags().StringVar(&file, "config", "", "file of settings (WEXILLUM_CONFIG)")
	values := map[string]*string{}
	for _, o := range config.Options {
		values[o.Key] = c.Flags().String(o.Flag(), "", fmt.Sprintf("%s (%s; start %q)", o.Help, o.Env(), o.Start))
		if len(used) > 0 && !slices.Contains(used, o.Key) {
			_ = c.Flags().MarkHidden(o.Flag())
		}
	}
	return func() (config.Config, error) {
		given := map[string]string{}
		for _, o := range config.Options {
			if c.Flags().Changed(o.Flag()) {
				given[o.Key] = *values[o.Key]
			}
		}
		if file == "" {
			file = os.Getenv("WEXILLUM_CONFIG")
		}
		return config.Load(file, os.LookupEnv, given)
	}
}

func (a *app) serve() *cobra.Command {
	c := &cobra.Command{Use: "serve", Short: cli.About("serve"), Args: cobra.NoArgs,
		Long: "Run the service on a MariaDB database.\n\nSettings: defaults, then --config, then the environment, then flags, the later over\nthe earlier. --print-config shows what won and where it came from."}
	read := configure(c)
	show := c.Flags().Bool("print-config", false, "print every setting with its source, and end")
	begin := c.Flags().Bool("print-config-file", false, "print a file of settings to begin with, with what each is for, and end")
	c.RunE = func(c *cobra.Command, _ []string) error {
		if *begin {
			a.Printf("%s", config.Commented())
			return nil
		}
		cfg, err := read()
		if err != nil {
			return usage(err)
		}
		if *show {
			rows, data := [][]string{}, []map[string]string{}
			for _, l := range cfg.Lines() {
				rows = append(rows, l[:])
				data = append(data, map[string]string{"setting": l[0], "value": l[1], "from": l[2]})
			}
			return a.Records(data, []string{"setting", "value", "from"}, rows)
		}
		if cfg["database"].Value == "" {
			return usage(
				errors.New(
					"no database is named: set database in --config, WEXILLUM_DATABASE or --database; to look around, wexillum demo brings its own",
				),
			)
		}
		if file := cfg["snapshot_file"].Value; file != "" {
			if st, err := os.Stat(filepath.Dir(file)); err != nil || !st.IsDir() {
				return usage(fmt.Errorf("snapshot_file %q: there is no folder %s; make one for the service's user, or name another file", file,
					filepath.Dir(file)))
			}
		}
		log := a.logger(cfg["log_level"].Value)
		return a.run(c.Context(), cfg, log, running{})
	}
	return c
}

func (a *app) logger(level string) *slog.Logger {
	var l slog.Level
	_ = l.UnmarshalText([]byte(level))
	return slog.New(slog.NewJSONHandler(a.Err(), &slog.HandlerOptions{Level: l}))
}

// plain has requests by their ids and addresses by pseudonyms in every line of a log. The pseudonyms are those of this database, so that
// they stay the same from start to start.
func plain(ctx context.Context, st *store.Store, log *slog.Logger) (*slog.Logger, error) {
	seal, err := st.SealAt(ctx, 1)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	return slog.New(logs.New(log.Handler(), []byte("wexillum log "+seal))), nil
}

// database adds the flags that name the database alone, and returns how to read the settings, as the service does.
func database(f *pflag.FlagSet) func() (config.Config, error) {
	var file, dsn string
	f.StringVar(&file, "config", "", "file of settings that names the database (WEXILLUM_CONFIG)")
	f.StringVar(&dsn, "database", "", "data source name, or file:PATH where it stands (WEXILLUM_DATABASE)")
	return func() (config.Config, error) {
		given := map[string]string{}
		if dsn != "" {
			given["database"] = dsn
		}
		cfg, err := config.Load(cmp.Or(file, os.Getenv("WEXILLUM_CONFIG")), os.LookupEnv, given)
		if err != nil {
			return nil, usage(err)
		}
		if cfg["database"].Value == "" {
			return nil, usage(errors.New("no database is named: set WEXILLUM_DATABASE, --config or --database"))
		}
		return cfg, nil
	}
}

// openWhenThere connects to a database, and waits for one that is not up yet.
func openWhenThere(ctx context.Context, dsn string, log *slog.Logger) (*store.Store, error) {
	for try := 0; ; try++ {
		st, err := store.Open(ctx, dsn, nil)
		if err == nil || store.TroubleOf(err) != store.Away && store.TroubleOf(err) != store.Crowded {
			return st, err
		}
		if try%30 == 0 {
			log.Warn("the database does not answer yet; waiting for it", "error", err)
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(time.Second):
		}
	}
}

// stopsIn is how long a service that stops finishes what was begun.
const stopsIn = 10 * time.Second

// running is what happens around a running service.
type running struct {
	demo   bool
	faster float64                                       // by this factor the spans of systems are shorter; 0 for as they are
	fill   func(context.Context, *service.Service) error // once the database is there
	ready  func(address string)
	open   map[string]net.Listener // by address, what is open before the service is there
	ends   <-chan error            // of what the service cannot live without
}

// clockShift puts the clock of a program wrong that is linked for tests (-ldflags "-X …=40m"). It
// is empty in every other one, and nothing else sets it.
var clockShift string

// follows is an error where a service that writes nothing cannot follow a database: another one has to bring its schema up to date.
func follows(ctx context.Context, st *store.Store) error {
	v, err := st.SchemaVersion(ctx)
	if err != nil {
		return err
	}
	if newest := store.NewestSchema(); v != newest {
		return fmt.Errorf("the schema is at version %d, and this program is for %d: start a service that does everything first, of the same version",
			v, newest)
	}
	return nil
}

// works begins what a service does by itself, until the context ends, and returns how to wait for the end of it.
func (a *app) works(ctx context.Context, cfg config.Config, svc *service.Service, fetcher *statement.Fetcher,
	every time.Duration) (finished func()) {
	minutes, _ := strconv.Atoi(cfg["statement_minutes"].Value)
	go svc.FollowStatements(ctx, fetcher, time.Duration(minutes)*time.Minute)
	var send service.Sender
	if m := mailServer(cfg); m != nil {
		send = m
	}
	var all sync.WaitGroup
	for _, x := range []struct {
		run   func(context.Context, time.Duration)
		least time.Duration
	}{
		{svc.RunWebhooks, time.Second},
		{svc.RunFeeds, time.Second},
		{svc.RunEvidencePlans, 500 * time.Millisecond},
		{svc.RunExpectations, 500 * time.Millisecond},
		{svc.RunSystems, 500 * time.Millisecond},
		{svc.RunFindings, time.Second},
		{svc.RunRefusals, 10 * time.Second},
		{func(ctx context.Context, every time.Duration) { svc.Schedule(ctx, every, send) }, 200 * time.Millisecond},
	} {
		all.Go(func() { x.run(ctx, max(x.least, every)) })
	}
	return all.Wait
}

// listens opens the port, or takes the one that systemd opened before (sd_listen_fds(3)).
func listens(cfg config.Config) (net.Listener, error) {
	given, err := activation.Listeners()
	if err != nil {
		return nil, fmt.Errorf("the port that systemd hands over: %w", err)
	}
	if len(given) > 1 {
		return nil, usage(fmt.Errorf("systemd hands over %d ports, and the service takes one", len(given)))
	}
	if len(given) == 1 && given[0] != nil {
		return given[0], nil
	}
	l, err := net.Listen("tcp", cfg["listen"].Value)
	if err != nil {
		return nil, fmt.Errorf("%w\nname another address with --listen", err)
	}
	return l, nil
}

// told tells systemd how the service is (sd_notify(3)); nobody where it does not run it.
func told(log *slog.Logger, state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		log.Warn("systemd cannot be told", "state", state, "error", err)
	}
}

// watched tells systemd that the service answers, twice in each span within which it has to (WatchdogSec=).
func watched(ctx context.Context, log *slog.Logger, svc *service.Service) {
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every == 0 {
		return
	}
	tick := time.NewTicker(every / 2)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if svc.State() != nil {
				told(log, daemon.SdNotifyWatchdog)
			}
		}
	}
}

func (a *app) run(ctx context.Context, cfg config.Config, log *slog.Logger, around running) error {
	st, err := openWhenThere(ctx, cfg["database"].Value, log)
	if err != nil {
		return err
	}
	defer st.Close()
	if cfg.DecisionsOnly() {
		if err := follows(ctx, st); err != nil {
			return err
		}
	} else {
		if err := st.Migrate(ctx); err != nil {
			return err
		}
		if err := sealing(ctx, st, cfg["key_file"].Value, around.demo, log); err != nil {
			return err
		}
	}
	if log, err = plain(ctx, st, log); err != nil {
		return err
	}
	if at := cfg["traces"].Value; at != "" {
		end, err := traces.Begin(ctx, at, cli.Revision())
		if err != nil {
			return usage(err)
		}
		defer func() {
			last, cancel := context.WithTimeout(context.Background(), 3*time.Second)
			defer cancel()
			_ = end(last)
		}()
	}
	clock := time.Now
	if clockShift != "" {
		by, err := time.ParseDuration(clockShift)
		if err != nil {
			return fmt.Errorf("this program was linked with the clock shift %q: %w", clockShift, err)
		}
		clock = func() time.Time { return time.Now().Add(by) }
	}
	svc, err := service.NewFrom(ctx, st, clock, log, cfg["snapshot_file"].Value)
	if err != nil {
		return err
	}
	if cfg.DecisionsOnly() {
		svc.Follow()
	}
	svc.KeepForgotten(cfg["forgotten_list"].Value)
	svc.SetConnector(func(dialect, address, key string) (service.Connector, error) {
		return connector.New(dialect, address, key)
	})
	if around.faster > 0 {
		svc.SetFaster(around.faster)
	}
	if around.fill != nil {
		if err := around.fill(ctx, svc); err != nil {
			return err
		}
	}
	hosts := cfg["statement_hosts"].Value
	fetcher := &statement.Fetcher{AllowHTTP: hosts == "any", AllowPrivate: hosts != "public"}
	if cfg["smtp"].Value != "" && cfg["mail_from"].Value == "" {
		return usage(errors.New("mail_from is needed where smtp is set: say from whom mail comes, as Guests <guests@ours.example>"))
	}
	closing := make(chan struct{})
	fresh, _ := strconv.Atoi(cfg["fresh_minutes"].Value)
	trusted, err := config.Prefixes(cfg["trusted_proxies"].Value)
	if err != nil {
		return err
	}
	var kept *certificate
	var ends func() time.Time
	if cert := cfg["tls_cert"].Value; cert != "" || cfg["tls_key"].Value != "" {
		if kept, err = newCertificate(cert, cfg["tls_key"].Value, log); err != nil {
			return usage(err)
		}
		ends = kept.ends
	}
	handler, err := api.New(
		api.Options{
			Revision:         cli.Revision(),
			Certificate:      ends,
			Closing:          closing,
			Ahead:            true,
			Service:          svc,
			Store:            st,
			Console:          console.Files(),
			Log:              log,
			SecureCookies:    cfg.SecureCookies(),
			PublicURL:        cfg["public_url"].Value,
			Demo:             around.demo,
			Decisions:        cfg.DecisionsOnly(),
			PublishStatement: cfg["publish_statement"].Value == "yes",
			Fetcher:          fetcher,
			Fresh:            time.Duration(fresh) * time.Minute,
			Trusted:          trusted,
		},
	)
	if err != nil {
		return err
	}
	if at := cfg["mail_policy"].Value; at != "" {
		l := around.open[at]
		if l == nil {
			if l, err = mailpolicy.Open(at); err != nil {
				return err
			}
		}
		defer mailpolicy.Serve(l, svc.MayForward, log).Close()
	}
	l := around.open[cfg["listen"].Value]
	if l == nil {
		if l, err = listens(cfg); err != nil {
			return err
		}
	}
	defer l.Close()
	if why := cfg.Exposed(l.Addr().String()); why != "" {
		return usage(errors.New(why))
	}
	if cfg["allow_plain_http"].Value == "yes" && cfg["tls_cert"].Value == "" {
		log.Warn("allow_plain_http: where nothing speaks https before this service, passwords go over the network in clear")
	}
	for _, name := range config.Unknown(os.Environ()) {
		log.Warn("a variable of the environment is no setting of the service; it does something only where a key says env: and its name", "name",
			name)
	}
	scheme := "http"
	if kept != nil {
		l, scheme = tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: kept.get,
			NextProtos: []string{"h2", "http/1.1"}}), "https"
	}
	base, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	srv := &http.Server{
		Handler:           handler,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		BaseContext:       func(net.Listener) context.Context { return base },
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	every, _ := strconv.Atoi(cfg["follow_ms"].Value)
	following := make(chan struct{})
	go func() {
		defer close(following)
		svc.Run(base, time.Duration(every)*time.Millisecond)
	}()
	keeping := make(chan struct{})
	go func() {
		defer close(keeping)
		svc.KeepFile(base)
	}()
	finished := func() {}
	public := cfg["public_url"].Value
	if public == "" {
		public = scheme + "://" + l.Addr().String()
	}
	svc.SetAddress(public)
	if !cfg.DecisionsOnly() {
		finished = a.works(base, cfg, svc, fetcher, time.Duration(every)*time.Millisecond)
	}
	served := make(chan error, 1)
	go func() { served <- srv.Serve(l) }()
	address := scheme + "://" + l.Addr().String()
	told(log, daemon.SdNotifyReady)
	go watched(base, log, svc)
	go boundMemory(base)
	log.Info("listening", "address", address, "revision", svc.State().Head.Revision)
	if around.ready != nil {
		around.ready(address)
	}
	select {
	case <-ctx.Done():
	case err := <-around.ends:
		cancel()
		_ = srv.Close()
		return fmt.Errorf("the database server ended: %v", err)
	case err := <-served:
		return err
	}
	// What was begun is finished; streams have no end of their own. What is not done in time is
	// refused, and rolled back, before the connections go.
	told(log, daemon.SdNotifyStopping)
	close(closing)
	stop, done := context.WithTimeout(context.Background(), stopsIn)
	defer done()
	if err = srv.Shutdown(stop); err != nil {
		cancel()
		refuse, refused := context.WithTimeout(context.Background(), 3*time.Second)
		defer refused()
		err = srv.Shutdown(refuse)
	}
	cancel()
	<-following
	finished()
	<-keeping
	log.Info("stopped")
	return err
}

func (a *app) schema() *cobra.Command {
	c := &cobra.Command{Use: "schema", Short: cli.About("schema")}
	named := database(c.PersistentFlags())
	with := func(fn func(context.Context, *store.Store) error) func(*cobra.Command, []string) error {
		return func(c *cobra.Command, _ []string) error {
			cfg, err := named()
			if err != nil {
				return err
			}
			st, err := store.Open(c.Context(), cfg["database"].Value, nil)
			if err != nil {
				return err
			}
			defer st.Close()
			if err := fn(c.Context(), st); err != nil {
				return err
			}
			v, err := st.SchemaVersion(c.Context())
			if err == nil {
				a.Say("The schema is at version %d.", v)
			}
			return err
		}
	}
	var to int64
	var sure bool
	down := &cobra.Command{
		Use:   "down",
		Short: "Go back to an older schema version, if nothing is lost",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if !sure {
				return usage(fmt.Errorf("this takes away what versions after %d added; add --yes to do it", to))
			}
			return with(func(ctx context.Context, st *store.Store) error {
				if lost, err := st.Loses(ctx, to); err != nil {
					return err
				} else if lost != "" {
					return errors.New(lost)
				}
				return st.MigrateDown(ctx, to)
			})(c, args)
		},
	}
	down.Flags().Int64Var(&to, "to", 0, "the version; 0 is an empty database")
	down.Flags().BoolVar(&sure, "yes", false, "really")
	c.AddCommand(
		&cobra.Command{
			Use:   "show",
			Short: "The version of the schema",
			Args:  cobra.NoArgs,
			RunE:  with(func(context.Context, *store.Store) error { return nil }),
		},
		&cobra.Command{
			Use:   "up",
			Short: "Bring the schema up to date",
			Args:  cobra.NoArgs,
			RunE:  with(func(ctx context.Context, st *store.Store) error { return st.Migrate(ctx) }),
		},
		down,
	)
	return c
}
