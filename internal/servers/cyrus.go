package servers

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"strings"

	"wexillum.example/internal/beside/aclcalendar"
	"wexillum.example/internal/freeport"
)

// cyrusFiles are what somebody writes who prepares a server of their own (docs/systems/aclcalendar.md): the folder 1, the domain
// 2, the ports of IMAP 3 and of CalDAV 4.
var cyrusFiles = map[string]string{
	"imapd.conf": `configdirectory: %[1]s/conf
defaultpartition: default
partition-default: %[1]s/spool
unixhierarchysep: yes
altnamespace: no
virtdomains: userid
defaultdomain: %[2]s
servername: %[2]s
admins: cyrus
httpmodules: caldav freebusy
allowplaintext: yes
caldav_allowscheduling: off
sasl_mech_list: PLAIN LOGIN
sasl_pwcheck_method: auxprop
sasl_auxprop_plugin: sasldb
sasl_sasldb_path: %[1]s/sasldb2
lmtpsocket: %[1]s/socket/lmtp
idlesocket: %[1]s/socket/idle
notifysocket: %[1]s/socket/notify
duplicatesuppression: no
`,
	"cyrus.conf": `START {
  recover cmd="ctl_cyrusdb -C %[1]s/imapd.conf -r"
}
SERVICES {
  imap cmd="imapd -C %[1]s/imapd.conf" listen="127.0.0.1:%[3]d" prefork=1
  http cmd="httpd -C %[1]s/imapd.conf" listen="127.0.0.1:%[4]d" prefork=1
}
EVENTS {
}
`,
}

const cyrusUser = 106

// Cyrus is a calendar server that runs.
type Cyrus struct {
	*Process
	Beside *aclcalendar.Server
	r      *Root
	in     string
}

// Cyrus starts a calendar server on loopback for a domain, whose calendars carry lists of rights.
func (r *Root) Cyrus(ctx context.Context, domain string) (*Cyrus, error) {
	in, err := r.Folder("acl")
	if err != nil {
		return nil, err
	}
	var ports [2]int
	for i := range ports {
		if ports[i], err = freeport.Find(); err != nil {
			return nil, err
		}
	}
	if err := r.user("cyrus", cyrusUser); err != nil {
		return nil, err
	}
	for _, d := range []string{".", "conf", "spool", "socket", "conf/db", "conf/proc", "conf/log", "conf/socket", "conf/lock"} {
		if err := os.MkdirAll(r.Path(in, d), 0o755); err != nil {
			return nil, err
		}
		if err := os.Chown(r.Path(in, d), cyrusUser, cyrusUser); err != nil {
			return nil, err
		}
	}
	for name, text := range cyrusFiles {
		// the server is another user
		if err := os.WriteFile(r.Path(in, name), fmt.Appendf(nil, text+"%[5]s", in, domain, ports[0], ports[1], ""),
			0o644); err != nil { //nolint:gosec
			return nil, err
		}
	}
	c, password := &Cyrus{r: r, in: in}, rand.Text()
	if err := c.Account(ctx, "cyrus@"+domain, password); err != nil {
		return nil, err
	}
	if c.Beside, err = aclcalendar.New(aclcalendar.Config{
		IMAP: fmt.Sprintf("127.0.0.1:%d", ports[0]), CalDAV: fmt.Sprintf("http://127.0.0.1:%d", ports[1]), Admin: "cyrus", Password: password,
		Ours:     domain,
		Settings: r.Path(in, "calendars.settings"), Account: c.Account,
	}); err != nil {
		return nil, err
	}
	if c.Process, err = r.Start(ctx, in, ports[:], r.Command(ctx, cyrusUser, "/usr/sbin/cyrmaster", "-C", in+"/imapd.conf", "-M",
		in+"/cyrus.conf", "-p", in+"/pid", "-D")); err != nil {
		return nil, err
	}
	return c, nil
}

// user makes a user of the root, with a group of the same name and number.
func (r *Root) user(name string, id int) error {
	for file, line := range map[string]string{"etc/passwd": fmt.Sprintf("%s:x:%d:%d:%s:/:/bin/sh\n", name, id, id, name),
		"etc/group": fmt.Sprintf("%s:x:%d:\n", name, id)} {
		b, err := os.ReadFile(r.Path(file))
		if err != nil {
			return err
		}
		if !strings.Contains(string(b), line) {
			if err := os.WriteFile(r.Path(file), append(b, line...), 0o644); err != nil { //nolint:gosec // as on any machine
				return err
			}
		}
	}
	return nil
}

// Account makes an account, of us or of elsewhere, or gives it another password; an empty one takes it away.
func (c *Cyrus) Account(ctx context.Context, address, password string) error {
	name, realm, _ := strings.Cut(address, "@")
	how := []string{"-p", "-c"}
	if password == "" {
		how = []string{"-d"}
	}
	cmd := c.r.Command(ctx, cyrusUser, "/usr/sbin/saslpasswd2", append(how, "-f", c.in+"/sasldb2", "-u", realm, name)...)
	cmd.Stdin = strings.NewReader(password)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", address, err, out)
	}
	return nil
}
