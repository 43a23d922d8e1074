package servers

import (
	"context"
	"fmt"
	"os"

	"wexillum.example/internal/beside/davcalendar"
	"wexillum.example/internal/freeport"
)

// radicaleConf is what somebody writes who prepares a server of their own (docs/systems/davcalendar.md): the folder 1, the
// port 2.
const radicaleConf = `[server]
hosts = 127.0.0.1:%[2]d
[auth]
type = htpasswd
htpasswd_filename = %[1]s/accounts
htpasswd_encryption = bcrypt
delay = 0
[rights]
type = from_file
file = %[1]s/rights
[storage]
filesystem_folder = %[1]s/calendars
`

// Radicale is a CalDAV server that runs, and what stands beside it.
type Radicale struct {
	*Process
	Beside *davcalendar.Server
	Folder string // of the machine
}

// Radicale starts a CalDAV server on loopback. Ours is our own domain.
func (r *Root) Radicale(ctx context.Context, ours string) (*Radicale, error) {
	in, err := r.Folder("calendars")
	if err != nil {
		return nil, err
	}
	port, err := freeport.Find()
	if err != nil {
		return nil, err
	}
	s, err := davcalendar.New(davcalendar.Config{Rights: r.Path(in, "rights"), Accounts: r.Path(in, "accounts"),
		Server: fmt.Sprintf("http://127.0.0.1:%d", port), Ours: ours})
	if err != nil {
		return nil, err
	}
	// the server is another user
	if err := os.WriteFile(r.Path(in, "config"), fmt.Appendf(nil, radicaleConf, in, port), 0o644); err != nil { //nolint:gosec
		return nil, err
	}
	p, err := r.Start(ctx, in, []int{port}, r.Command(ctx, Nobody, "/usr/bin/python3", "-m", "radicale", "--config", in+"/config"))
	if err != nil {
		return nil, err
	}
	return &Radicale{p, s, r.Path(in)}, nil
}
