package daemon

import (
	"context"
	"os"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/cli"
	"wexillum.example/internal/config"
	"wexillum.example/internal/doctor"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

// mailServer is the server that mail is sent through; nil where none is named.
func mailServer(cfg config.Config) *mail.Server {
	at := cfg["smtp"].Value
	if at == "" {
		return nil
	}
	return &mail.Server{Address: at, TLS: cfg["smtp_tls"].Value, User: cfg["smtp_user"].Value, Password: cfg["smtp_password"].Value,
		From: cfg["mail_from"].Value}
}

func (a *app) doctor() *cobra.Command {
	c := &cobra.Command{
		Use:   "doctor",
		Short: cli.About("doctor"),
		Long: cli.About("doctor") +
			".\n\nIt looks at the settings, the database and its settings, clocks, mail, https, names, disks, keys, backups and systems, and changes\n" +
			"nothing. Run it as the user of the service, where the service runs. It exits with 3 where something does not work.",
		Example: "  sudo -u wexillum wexillum doctor --config /etc/wexillum/wexillum.yaml",
		Args:    cobra.NoArgs,
	}
	read := configure(c, "database")
	c.RunE = func(c *cobra.Command, _ []string) error {
		cfg, err := read()
		if err != nil {
			return usage(err)
		}
		file, _ := c.Flags().GetString("config")
		if file == "" {
			file = os.Getenv("WEXILLUM_CONFIG")
		}
		p := &doctor.Patient{Config: cfg, File: file, Environ: os.Environ(), Now: time.Now, Systems: systemsOf}
		if m := mailServer(cfg); m != nil {
			p.Mail = m.Try
		}
		all := p.Visit(c.Context())
		rows := [][]string{}
		for _, x := range all {
			rows = append(rows, []string{map[string]string{doctor.Good: "✓", doctor.Look: "△", doctor.Wrong: "▼"}[x.State] + " " + x.State, x.Of,
				x.Found, x.Do})
		}
		if err := a.Records(all, []string{"state", "of", "found", "what to do"}, rows); err != nil {
			return err
		}
		if doctor.Worst(all) == doctor.Wrong {
			return cli.Found()
		}
		return nil
	}
	return c
}

// systemsOf lists the systems that are worked on, with how that went last.
func systemsOf(ctx context.Context, st *store.Store) (out []doctor.System, err error) {
	list, err := service.SystemsIn(ctx, st)
	if err != nil {
		return nil, err
	}
	for i := range list {
		work, err := st.WorkOn(ctx, list[i].ID)
		if err != nil {
			return nil, err
		}
		out = append(out, doctor.System{ID: list[i].ID, Key: list[i].Key, Problem: work.Problem})
	}
	return out, nil
}
