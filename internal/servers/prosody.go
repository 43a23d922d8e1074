package servers

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"strings"
	"syscall"

	"wexillum.example/internal/beside/ldapdir"
	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/freeport"
)

// prosodyConf is what somebody writes who prepares a server of their own (docs/systems/xmppchat.md): the folder 1, the
// domain 2, the port of clients 3 and of other servers 4, of the answers to names 5; how guests sign in 6.
const prosodyConf = `pidfile = "%[1]s/pid"
data_path = "%[1]s/data"
admin_socket = "%[1]s/socket"
interfaces = { "127.0.0.1" }
c2s_ports = { %[3]d }
s2s_ports = { %[4]d }
run_as_root = true
storage = "internal"
authentication = "internal_hashed"
log = { info = "%[1]s/log" }
s2s_secure_auth = true
s2s_require_encryption = true
c2s_require_encryption = true
unbound = { resolvconf = false, hoststxt = false, forward = { "127.0.0.1@%[5]d" }, options = { ["do-not-query-localhost:"] = "no" } }
ssl = { certificate = "%[1]s/cert.pem", key = "%[1]s/key.pem", cafile = "%[1]s/ca.pem" }
firewall_scripts = { "%[1]s/rules.pfw" }
modules_enabled = { "firewall", "s2s_auth_certs", "roster", "saslauth", "tls", "dialback", "disco", "presence", "message", "iq", "s2s", "c2s", "offline", "admin_shell" }
VirtualHost "%[2]s"
VirtualHost "guests.%[2]s"
%[6]sComponent "rooms.%[2]s" "muc"
  modules_enabled = { "firewall" }
  admins = { "wexillum@%[2]s" }
  restrict_room_creation = true
  muc_tombstones = false
`

// guestsFrom has the host of guests sign them in from a directory: its host and port 1, its base 2, who reads it 3, their
// password 4.
const guestsFrom = `  authentication = "ldap"
  ldap_server = "%[1]s"
  ldap_base = "ou=guests,%[2]s"
  ldap_rootdn = "%[3]s"
  ldap_password = "%[4]s"
  ldap_filter = "(uid=$user)"
  ldap_mode = "bind"
`

// Prosody is an XMPP server that runs, and what stands beside it.
type Prosody struct {
	*Process
	Beside *xmppchat.Server
	Domain string
	r      *Root
	in     string
	port   int
}

// Prosody starts an XMPP server for a domain and its guests on loopback. From a directory, where one is named, guests sign in
// with the address that the directory has for them, and who is out there is out here.
func (r *Root) Prosody(ctx context.Context, domain string, n *Names, a *Authority, directory ...*Slapd) (*Prosody, error) {
	guests := ""
	for _, d := range directory {
		c := &d.Beside.Config
		guests = fmt.Sprintf(guestsFrom, strings.TrimPrefix(c.Server, "ldap://"), c.Base, c.Admin, c.Password)
	}
	in, err := r.Folder("chat")
	if err != nil {
		return nil, err
	}
	var ports [2]int
	for i := range ports {
		if ports[i], err = freeport.Find(); err != nil {
			return nil, err
		}
	}
	cert, key, err := a.Issue(domain, "guests."+domain, "rooms."+domain)
	if err != nil {
		return nil, err
	}
	p := &Prosody{Domain: domain, r: r, in: in, port: ports[0]}
	for name, b := range map[string][]byte{"cert.pem": cert, "key.pem": key, "ca.pem": a.PEM,
		"prosody.cfg.lua": fmt.Appendf(nil, prosodyConf, in, domain, ports[0], ports[1], n.Port(), guests)} {
		if err := os.WriteFile(r.Path(in, name), b, 0o600); err != nil {
			return nil, err
		}
		if err := os.Chown(r.Path(in, name), Nobody, Nobody); err != nil {
			return nil, err
		}
	}
	if p.Beside, err = xmppchat.New(ctx, xmppchat.Config{
		Rules: r.Path(in, "rules.pfw"), Hosts: []string{domain, "guests." + domain, "rooms." + domain}, Guests: "guests." + domain,
		Rooms: "rooms." + domain, CA: a.Pool,
		Check: func(ctx context.Context, file string) error {
			out, err := p.ctl(ctx, "mod_firewall", strings.TrimPrefix(file, r.Dir))
			if err != nil {
				return fmt.Errorf("%w: %s", err, tail(out))
			}
			return nil
		},
		Reload: func(context.Context) error { return p.Signal(syscall.SIGHUP) },
	}); err != nil {
		return nil, err
	}
	if p.Process, err = r.Start(ctx, in, ports[:], r.Command(ctx, Nobody, "/usr/bin/prosody", "--config", in+"/prosody.cfg.lua",
		"-F")); err != nil {
		return nil, err
	}
	for _, d := range []string{domain, "guests." + domain, "rooms." + domain} {
		n.At(d, ports[1])
	}
	for _, d := range directory {
		d.Beside.Out = p.Out
	}
	p.Beside.Keeper, err = p.Account(ctx, "wexillum", domain, rand.Text())
	return p, err
}

// Out ends what a guest has open.
func (p *Prosody) Out(ctx context.Context, guest string) error {
	out, err := p.ctl(ctx, "shell", fmt.Sprintf("c2s:close(%q)", ldapdir.Node(guest)+"@guests."+p.Domain))
	if err != nil {
		err = fmt.Errorf("%w: %s", err, tail(out))
	}
	return err
}

// ctl runs the server's own command.
func (p *Prosody) ctl(ctx context.Context, args ...string) ([]byte, error) {
	c := p.r.Command(ctx, Nobody, "/usr/bin/prosodyctl", append([]string{"--root", "--config", p.in + "/prosody.cfg.lua"}, args...)...)
	return c.CombinedOutput()
}

// Account makes an account, and says where its clients sign in.
func (p *Prosody) Account(ctx context.Context, name, host, password string) (xmppchat.Account, error) {
	out, err := p.ctl(ctx, "register", name, host, password)
	if err != nil {
		err = fmt.Errorf("%w: %s", err, tail(out))
	}
	return xmppchat.Account{Address: name + "@" + host, Password: password, Server: fmt.Sprintf("127.0.0.1:%d", p.port)}, err
}
