package servers

import (
	"context"
	"fmt"
	"os"
	"strings"
	"syscall"

	"wexillum.example/internal/beside/mailforward"
	"wexillum.example/internal/freeport"
)

// postfixMain and postfixMaster are what somebody writes who prepares a server of their own (docs/systems/mailforward.md):
// the folder 1, the domain 2, the port that mail is delivered to 3, and of everybody else's mail server 4; of the listener
// for others 5, of the one that asks us 6, and where we are asked 7.
const (
	postfixMain = `compatibility_level = 3.7
queue_directory = %[1]s/spool
data_directory = %[1]s/keep
command_directory = /usr/sbin
daemon_directory = /usr/lib/postfix/sbin
mail_owner = postfix
setgid_group = postdrop
myhostname = mail.%[2]s
mydestination =
alias_maps =
alias_database =
mynetworks = 127.0.0.0/8
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
disable_dns_lookups = yes
virtual_mailbox_domains = %[2]s
virtual_mailbox_maps = static:all
virtual_transport = lmtp:inet:127.0.0.1:%[3]d
# what an alias sends on goes where the table says, and what tells its sender goes to them
default_transport = smtp:[127.0.0.1]:%[4]d
transport_maps = regexp:%[1]s/postfix/onward
sender_dependent_default_transport_maps = regexp:%[1]s/postfix/onward.senders
virtual_alias_maps = texthash:%[1]s/postfix/aliases
maillog_file_prefixes = %[1]s
maillog_file = %[1]s/maillog
smtpd_policy_service_default_action = 451 4.3.5 nobody answers whether this may go on
in_flow_delay = 0
smtpd_policy_service_timeout = 5s
smtpd_policy_service_retry_delay = 1s
`
	postfixMaster = `127.0.0.1:%[5]d inet n - n - - smtpd
  -o smtpd_relay_restrictions=reject_unauth_destination
  -o mynetworks=
127.0.0.1:%[6]d inet n - n - - smtpd
  -o smtpd_relay_restrictions=check_policy_service,inet:127.0.0.1:%[7]d,permit_mynetworks,reject
  -o syslog_name=onward
  -o content_filter=smtp:[127.0.0.1]:%[4]d
  -o rewrite_service_name=onwardrewrite
  -o receive_override_options=no_address_mappings
cleanup unix n - n - 0 cleanup
qmgr unix n - n 300 1 qmgr
rewrite unix - - n - - trivial-rewrite
onwardrewrite unix - - n - - trivial-rewrite
  -o transport_maps=
  -o sender_dependent_default_transport_maps=
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
verify unix - - n - 1 verify
flush unix n - n 1000? 0 flush
proxymap unix - - n - - proxymap
smtp unix - - n - - smtp
relay unix - - n - - smtp
lmtp unix - - n - - lmtp
error unix - - n - - error
retry unix - - n - - error
anvil unix - - n - 1 anvil
scache unix - - n - 1 scache
postlog unix-dgram n - n - 1 postlogd
`
	dovecotConf = `protocols = lmtp
base_dir = %[1]s/run
state_dir = %[1]s/state
log_path = %[1]s/dovecot.log
ssl = no
default_internal_user = nobody
default_internal_group = nogroup
default_login_user = nobody
mail_uid = nobody
mail_gid = nogroup
first_valid_uid = 1
mail_location = maildir:%[1]s/mail/%%u
passdb {
  driver = static
  args = nopassword=y
}
userdb {
  driver = static
  args = uid=65534 gid=65534 home=%[1]s/mail/%%u allow_all_users=yes
}
service lmtp {
  inet_listener lmtp {
    address = 127.0.0.1
    port = %[2]d
  }
}
service anvil {
  chroot =
}
service stats {
  chroot =
}
submission_host = 127.0.0.1:%[3]d
protocol lmtp {
  mail_plugins = sieve
  postmaster_address = postmaster@%[4]s
}
plugin {
  sieve = file:%[1]s/own;active=%[1]s/own/%%u.sieve
  sieve_before = %[1]s/before/%%u.sieve
  sieve_redirect_envelope_from = orig_recipient
}
`
)

// Mail is a mail server that runs, with its mailboxes, and what stands beside it.
type Mail struct {
	Postfix, Dovecot *Process
	Beside           *mailforward.Server
	In               string // where others deliver to it
	Folder           string // of the machine
}

// Stop ends both.
func (m *Mail) Stop() {
	m.Postfix.Stop()
	m.Dovecot.Stop()
}

// mailUsers are those that Postfix runs as: it takes no others' word for nobody.
const postfixUser, postdropGroup = 105, 110

// Mail starts a mail server for a domain on loopback. Mail for elsewhere goes to the port out of this machine; whether it
// may go on is asked at the port policy.
func (r *Root) Mail(ctx context.Context, domain string, out, policy int) (*Mail, error) {
	in, err := r.Folder("mail")
	if err != nil {
		return nil, err
	}
	var ports [3]int // of others, of the listener that asks, of delivery
	for i := range ports {
		if ports[i], err = freeport.Find(); err != nil {
			return nil, err
		}
	}
	for name, line := range map[string]string{"etc/passwd": fmt.Sprintf("postfix:x:%d:%d:postfix:/:/bin/sh\n", postfixUser, postfixUser),
		"etc/group": fmt.Sprintf("postfix:x:%d:\npostdrop:x:%d:\n", postfixUser, postdropGroup)} {
		b, err := os.ReadFile(r.Path(name))
		if err != nil {
			return nil, err
		}
		if !strings.Contains(string(b), line) {
			if err := os.WriteFile(r.Path(name), append(b, line...), 0o644); err != nil { //nolint:gosec // as on any machine
				return nil, err
			}
		}
	}
	type folder struct {
		name     string
		mode     os.FileMode
		uid, gid int
	}
	dirs := []folder{
		{"postfix", 0o755, 0, 0}, {"spool", 0o755, 0, 0}, {"spool/pid", 0o755, 0, 0}, {"keep", 0o700, postfixUser, postfixUser},
		{"spool/maildrop", 0o730, postfixUser, postdropGroup}, {"spool/public", 0o710, postfixUser, postdropGroup},
		{"mail", 0o755, Nobody, Nobody}, {"own", 0o755, Nobody, Nobody}, {"before", 0o755, Nobody, Nobody}, {"run", 0o755, 0, 0},
		{"state", 0o755, 0, 0},
	}
	for _, d := range []string{"active", "bounce", "corrupt", "defer", "deferred", "flush", "hold", "incoming", "private", "saved", "trace"} {
		dirs = append(dirs, folder{"spool/" + d, 0o700, postfixUser, 0})
	}
	for _, d := range dirs {
		if err := os.MkdirAll(r.Path(in, d.name), 0o700); err != nil {
			return nil, err
		}
		if err := os.Chmod(r.Path(in, d.name), d.mode); err != nil {
			return nil, err
		}
		if err := os.Chown(r.Path(in, d.name), d.uid, d.gid); err != nil {
			return nil, err
		}
	}
	if err := os.Chown(r.Path(in), 0, 0); err != nil { // Postfix trusts no folder of others above its own
		return nil, err
	}
	for name, text := range map[string]string{
		"postfix/main.cf":   fmt.Sprintf(postfixMain, in, domain, ports[2], out),
		"postfix/master.cf": fmt.Sprintf("%[8]s"+postfixMaster, in, domain, ports[2], out, ports[0], ports[1], policy, ""),
		"dovecot.conf":      fmt.Sprintf(dovecotConf, in, ports[2], ports[1], domain),
	} {
		if err := os.WriteFile(r.Path(in, name), []byte(text), 0o644); err != nil { //nolint:gosec // the servers are other users
			return nil, err
		}
	}
	dove, err := r.Start(ctx, in, []int{ports[2]}, r.Command(ctx, 0, "/usr/sbin/dovecot", "-F", "-c", in+"/dovecot.conf"))
	if err != nil {
		return nil, err
	}
	beside := &mailforward.Server{Config: mailforward.Config{
		Main: r.Path(in, "postfix/main.cf"), Master: r.Path(in, "postfix/master.cf"), Own: r.Path(in, "own"), Before: r.Path(in, "before"),
		Submission: fmt.Sprintf("127.0.0.1:%d", ports[1]),
		Aliases:    r.Path(in, "postfix/aliases"), Transport: r.Path(in, "postfix/onward"), Onward: fmt.Sprintf("smtp:[127.0.0.1]:%d", out),
	}}
	if err := beside.Begin(); err != nil {
		dove.Stop()
		return nil, err
	}
	post, err := r.Start(ctx, in, ports[:2], r.Command(ctx, 0, "/usr/lib/postfix/sbin/master", "-d", "-c", in+"/postfix"))
	if err != nil {
		dove.Stop()
		return nil, err
	}
	beside.Reload = func(context.Context) error { return post.Signal(syscall.SIGHUP) }
	return &Mail{post, dove, beside, fmt.Sprintf("127.0.0.1:%d", ports[0]), r.Path(in)}, nil
}
