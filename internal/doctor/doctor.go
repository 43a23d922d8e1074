// Package doctor looks at an installation as whoever keeps it would: the database and its settings, clocks, mail, https, names, disks,
// keys, backups and systems; and says of each what is found and what to do. It changes nothing.
package doctor

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"wexillum.example/internal/config"
	"wexillum.example/internal/secret"
	"wexillum.example/internal/store"
	"wexillum.example/internal/vault"
)

// How something is.
const (
	Good  = "good"
	Look  = "look"  // it works, and should be otherwise
	Wrong = "wrong" // it does not work, or soon will not
)

// Check is what was looked at.
type Check struct {
	Of    string `json:"of"`
	State string `json:"state"`
	Found string `json:"found"`
	Do    string `json:"do,omitempty"`
}

// System is a system that is worked on.
type System struct{ ID, Key, Problem string }

// Patient is the installation.
type Patient struct {
	Config  config.Config
	File    string // of settings; empty for none
	Environ []string
	Now     func() time.Time
	Mail    func(context.Context) error // tries to reach the mail server, and sends nothing; nil for none
	Systems func(context.Context, *store.Store) ([]System, error)
}

type visit struct {
	*Patient
	out []Check
}

func (v *visit) say(of, state, do, format string, args ...any) {
	v.out = append(v.out, Check{of, state, fmt.Sprintf(format, args...), do})
}

func (v *visit) get(key string) string { return v.Config[key].Value }

// Visit looks at everything.
func (p *Patient) Visit(ctx context.Context) []Check {
	v := &visit{Patient: p}
	v.settings()
	v.database(ctx)
	v.https(ctx)
	v.mail(ctx)
	v.disks()
	return v.out
}

// Worst is how the worst of them is.
func Worst(all []Check) string {
	worst := Good
	for _, c := range all {
		if c.State == Wrong || c.State == Look && worst == Good {
			worst = c.State
		}
	}
	return worst
}

func (v *visit) settings() {
	if v.File == "" {
		v.say("settings", Good, "", "from the environment and flags; no file")
	} else if st, err := os.Stat(v.File); err != nil {
		v.say("settings", Wrong, "name the file with --config", "%v", err)
	} else if st.Mode().Perm()&0o007 != 0 {
		v.say("settings", Look, "chmod o= "+v.File, "%s may be read by everybody on this machine", v.File)
	} else {
		v.say("settings", Good, "", "%s", v.File)
	}
	if unknown := config.Unknown(v.Environ); len(unknown) > 0 {
		v.say("environment", Look, "take them away, or put them right; wexillum serve --print-config lists what there is",
			"%s: no settings of the service", strings.Join(unknown, ", "))
	}
	if why := v.Config.Exposed(v.get("listen")); why != "" {
		v.say("listen", Wrong, "set tls_cert and tls_key, or trusted_proxies where a proxy speaks https before it", "%s", why)
	} else {
		v.say("listen", Good, "", "%s", v.get("listen"))
	}
}

func (v *visit) database(ctx context.Context) {
	dsn := v.get("database")
	if dsn == "" {
		v.say("database", Wrong, "set database, as user:password@tcp(127.0.0.1:3306)/wexillum", "none is named")
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	st, err := store.Open(ctx, dsn, nil)
	if err != nil {
		v.say("database", Wrong, "start it, and see that its address, name and password are as in the setting", "%v", err)
		return
	}
	defer st.Close()
	v.variables(ctx, st.DB())
	at, err := st.Unrestored(ctx)
	if err != nil {
		v.say("schema", Wrong, "", "%v", err)
		return
	}
	if at != "" {
		v.say("schema", Wrong, "wexillum restore --finish --why …, or wexillum restore FILE --again …",
			"a backup of %s is being brought back, or that was broken off; no service starts", at)
		return
	}
	now, err := st.SchemaVersion(ctx)
	newest := store.NewestSchema()
	switch {
	case err != nil:
		v.say("schema", Wrong, "give the account of the service the rights that docs/run.md names", "%v", err)
		return
	case now > newest:
		v.say("schema", Wrong, "start the newer program", "the database is at version %d, and this program knows up to %d", now, newest)
		return
	case now < newest:
		v.say("schema", Look, "make a backup, then start the service: it brings the tables up to date",
			"the database is at version %d, and this program is for %d", now, newest)
		return
	}
	v.say("schema", Good, "", "version %d", now)
	v.clock(ctx, st)
	v.keys(ctx, st)
	v.backups(ctx, st)
	v.systems(ctx, st)
}

// variables are settings of the database server that ours rests on.
func (v *visit) variables(ctx context.Context, db *sql.DB) {
	var version, charset, name string
	var packet, most, used, flush, binlog, sync, readOnly int64
	err := db.QueryRowContext(ctx,
		"SELECT VERSION(), DATABASE(), @@character_set_database, @@max_allowed_packet, @@max_connections, @@innodb_flush_log_at_trx_commit, @@log_bin, @@sync_binlog, @@read_only").
		Scan(&version, &name, &charset, &packet, &most, &flush, &binlog, &sync, &readOnly)
	if err != nil {
		v.say("database", Wrong, "", "%v", err)
		return
	}
	if err := db.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.processlist").Scan(&used); err != nil {
		used = 0
	}
	v.say("database", Good, "", "MariaDB %s, database %s", version, name)
	if readOnly != 0 {
		v.say("database, writing", Wrong, "let it write (read_only = OFF), or name the node that writes", "the server is read-only")
	}
	if packet < 16<<20 {
		v.say("database, packets", Look, "set max_allowed_packet = 64M", "max_allowed_packet is %d MB; a big file or list is refused", packet>>20)
	} else {
		v.say("database, packets", Good, "", "max_allowed_packet is %d MB", packet>>20)
	}
	if most < 40 {
		v.say("database, connections", Look, "set max_connections to at least 40 for each service", "max_connections is %d, and %d are open",
			most, used)
	} else {
		v.say("database, connections", Good, "", "%d of %d are open", used, most)
	}
	if flush != 1 {
		v.say("database, durability", Wrong, "set innodb_flush_log_at_trx_commit = 1",
			"innodb_flush_log_at_trx_commit is %d: what was done can be lost when the machine stops", flush)
	} else {
		v.say("database, durability", Good, "", "what is done is on the disk")
	}
	if binlog == 0 {
		v.say("database, log", Look, "set log_bin and binlog_format = ROW (docs/backup.md), or live with losing what came after the last backup",
			"the server keeps no log of what is written: nothing later than a backup can be brought back")
	} else if sync != 1 {
		v.say("database, log", Look, "set sync_binlog = 1", "sync_binlog is %d: the end of its log can be lost when the machine stops", sync)
	} else {
		v.say("database, log", Good, "", "it keeps a log of what is written")
	}
	v.cluster(ctx, db)
}

// cluster looks at a node of several (Galera); nothing is said where it is one alone.
func (v *visit) cluster(ctx context.Context, db *sql.DB) {
	says := map[string]string{}
	rows, err := db.QueryContext(ctx,
		"SHOW STATUS WHERE Variable_name IN ('wsrep_cluster_size', 'wsrep_cluster_status', 'wsrep_ready', 'wsrep_local_state_comment')")
	if err != nil {
		return
	}
	defer rows.Close()
	for rows.Next() {
		var name, value string
		if rows.Scan(&name, &value) == nil {
			says[name] = value
		}
	}
	size := says["wsrep_cluster_size"]
	switch {
	case rows.Err() != nil || size == "" || size == "0":
	case says["wsrep_ready"] != "ON" || says["wsrep_cluster_status"] != "Primary":
		v.say("cluster", Wrong, "see docs/cluster.md, when a node is cut off", "this node is not with the others (%s, %s)",
			says["wsrep_cluster_status"], says["wsrep_local_state_comment"])
	case size == "1" || size == "2":
		v.say("cluster", Look, "start the other nodes", "%s of the nodes are there; another one lost, and nobody may write", size)
	default:
		v.say("cluster", Good, "", "%s nodes, this one %s", size, strings.ToLower(says["wsrep_local_state_comment"]))
	}
}

// apart is by how much clocks may differ.
const apart = 5 * time.Second

func (v *visit) clock(ctx context.Context, st *store.Store) {
	before := v.Now()
	at, err := st.Clock(ctx)
	if err != nil {
		v.say("clock", Wrong, "", "%v", err)
		return
	}
	by := at.Sub(before.Add(v.Now().Sub(before) / 2)).Abs()
	if by > apart {
		v.say("clock", Wrong, "set the clocks by the network on both machines (timedatectl set-ntp true)",
			"the database's clock and ours are %s apart: nothing dated is carried out", by.Round(time.Second))
		return
	}
	v.say("clock", Good, "", "as the database's")
}

func (v *visit) keys(ctx context.Context, st *store.Store) {
	file := v.get("key_file")
	var keys *vault.Vault
	if file != "" {
		var err error
		if keys, err = vault.Read(file); err != nil {
			v.say("key file", Wrong, "bring its copy back; where it is lost for good: wexillum seal-key --lost", "%v", err)
			return
		}
	}
	kept, err := st.SealedWith(ctx)
	if err != nil {
		v.say("key file", Wrong, "", "%v", err)
		return
	}
	clear := 0
	for place, text := range kept {
		if _, err := keys.Open(text, place); err != nil {
			v.say("key file", Wrong, "name the file that holds the key as key_file, or give it up: wexillum seal-key --lost", "%v", err)
			return
		}
		if _, sealed := vault.Sealed(text); !sealed {
			clear++
		}
	}
	switch {
	case file == "":
		v.say("key file", Look, "wexillum seal-key FILE, then key_file: FILE",
			"none: keys that sign for us stand in the database in clear (%d now)", clear)
	case clear > 0:
		v.say("key file", Look, "start the service again", "%s does not seal every key yet: %d in clear in the database", file, clear)
	default:
		v.say("key file", Good, "", "%s opens every key", file)
	}
}

// oldBackup is how old the last backup may be: a day, and the time that one takes.
const oldBackup = 26 * time.Hour

func (v *visit) backups(ctx context.Context, st *store.Store) {
	b, ok, err := st.LastBackup(ctx)
	switch {
	case err != nil:
		v.say("backups", Wrong, "", "%v", err)
		return
	case !ok:
		v.say("backups", Look, "set backup_dir and backup_to (docs/backup.md), and enable wexillum-backup.timer", "none was ever made")
	default:
		at, err := time.Parse(time.RFC3339, b.At)
		if age := v.Now().Sub(at); err != nil || age > oldBackup {
			v.say("backups", Wrong, "systemctl status wexillum-backup, and wexillum backup by hand", "the last one is of %s, %.0f hours ago", b.At,
				age.Hours())
		} else {
			v.say("backups", Good, "", "the last one is of %s", b.At)
		}
	}
	if v.get("forgotten_list") == "" {
		v.say("forgotten list", Look, "set forgotten_list to a file apart from the database",
			"none: a backup that is brought back brings back whom we forgot since")
	}
}

func (v *visit) systems(ctx context.Context, st *store.Store) {
	if v.Systems == nil {
		return
	}
	list, err := v.Systems(ctx, st)
	if err != nil {
		v.say("systems", Wrong, "", "%v", err)
	}
	for _, x := range list {
		of := "system " + x.ID
		if _, err := secret.At(x.Key); err != nil {
			v.say(of, Wrong, "put the key where the system's record says (wexillum system show "+x.ID+"), for this user to read", "its key: %v", err)
		} else if x.Problem != "" {
			v.say(of, Wrong, "wexillum system try "+x.ID, "when it was tried last: %s", x.Problem)
		} else {
			v.say(of, Good, "", "read and written when it was tried last")
		}
	}
}

// endsSoon is when a certificate should be new.
const endsSoon = 14 * 24 * time.Hour

func (v *visit) https(ctx context.Context) {
	public, err := url.Parse(v.get("public_url"))
	host := ""
	if err == nil {
		host = public.Hostname()
	}
	if cert := v.get("tls_cert"); cert != "" {
		if st, err := os.Stat(v.get("tls_key")); err == nil && st.Mode().Perm()&0o007 != 0 {
			v.say("https, key", Wrong, "chmod o= "+v.get("tls_key"), "everybody on this machine may read it")
		}
		pair, err := tls.LoadX509KeyPair(cert, v.get("tls_key"))
		if err != nil {
			v.say("https", Wrong, "renew the certificate, or name its files in tls_cert and tls_key", "%v", err)
		} else {
			v.certificate(pair.Leaf, host)
		}
	}
	if host == "" {
		v.say("address outside", Look, "set public_url, as https://access.house.example", "none is set: mail leads to %s", v.get("listen"))
		return
	}
	if net.ParseIP(host) == nil {
		of, err := net.DefaultResolver.LookupHost(ctx, host)
		if err != nil {
			v.say("address outside", Wrong, "have the name of public_url in DNS", "%v", err)
			return
		}
		v.say("address outside", Good, "", "%s is %s", host, strings.Join(of, ", "))
	}
	c := &http.Client{Timeout: 10 * time.Second}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, v.get("public_url")+"/healthz", nil)
	if err != nil {
		v.say("reached from here", Wrong, "write public_url as https://host", "%v", err)
		return
	}
	res, err := c.Do(r)
	if err != nil {
		v.say("reached from here", Look,
			"start the service; where it runs, look at the proxy before it, and whether its certificate is trusted here", "%v", err)
		return
	}
	_ = res.Body.Close()
	if res.StatusCode != http.StatusOK {
		v.say("reached from here", Wrong, "have the proxy pass everything under public_url to "+v.get("listen"), "%s/healthz answers %d",
			v.get("public_url"), res.StatusCode)
		return
	}
	v.say("reached from here", Good, "", "%s", v.get("public_url"))
	if public.Scheme == "https" && res.TLS != nil && len(res.TLS.PeerCertificates) > 0 && v.get("tls_cert") == "" {
		v.certificate(res.TLS.PeerCertificates[0], host)
	}
}

func (v *visit) certificate(c *x509.Certificate, host string) {
	left := c.NotAfter.Sub(v.Now())
	until := c.NotAfter.UTC().Format(time.DateOnly)
	switch {
	case left <= 0:
		v.say("https", Wrong, "renew the certificate", "the certificate ended on %s", until)
	case host != "" && c.VerifyHostname(host) != nil:
		v.say("https", Wrong, "have the certificate made for the name in public_url", "%v", c.VerifyHostname(host))
	case left < endsSoon:
		v.say("https", Look, "renew the certificate", "the certificate ends on %s", until)
	default:
		v.say("https", Good, "", "the certificate is good until %s", until)
	}
}

func (v *visit) mail(ctx context.Context) {
	if v.get("smtp") == "" || v.Mail == nil {
		v.say("mail", Look, "set smtp and mail_from", "no mail server is named: mail waits, and nobody is invited or warned by it")
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if err := v.Mail(ctx); err != nil {
		v.say("mail", Wrong, "see that smtp, smtp_tls, smtp_user and smtp_password are as the mail server wants them", "%s: %v", v.get("smtp"),
			err)
		return
	}
	v.say("mail", Good, "", "%s takes mail from us", v.get("smtp"))
	from := v.get("mail_from")
	_, domain, _ := strings.Cut(strings.TrimSuffix(from[strings.LastIndexByte(from, '<')+1:], ">"), "@")
	if mx, err := net.DefaultResolver.LookupMX(ctx, domain); err != nil || len(mx) == 0 {
		v.say("mail, answers", Look, "have mail for "+domain+" go somewhere (an MX record), or write another mail_from",
			"nobody gets what is answered to %s", from)
	}
	spf := false
	texts, _ := net.DefaultResolver.LookupTXT(ctx, domain)
	for _, t := range texts {
		spf = spf || strings.HasPrefix(t, "v=spf1")
	}
	if !spf {
		v.say("mail, trusted", Look, "publish who may send for "+domain+" (SPF, RFC 7208)",
			"%s says nobody may send for it: what we send may be taken for a forgery", domain)
	}
}

// littleLeft is how much of a disk should be free.
const littleLeft = 1 << 30

func (v *visit) disks() {
	for _, x := range []struct{ of, dir string }{{"disk for backups", v.get("backup_dir")},
		{"disk for the forgotten list", filepath.Dir(v.get("forgotten_list"))}} {
		if x.dir == "" || x.dir == "." {
			continue
		}
		var fs syscall.Statfs_t
		if err := syscall.Statfs(x.dir, &fs); err != nil {
			v.say(x.of, Wrong, "make the folder, and give it to the user of the service: install -d -o wexillum -m 0700 "+x.dir, "%s: %v", x.dir,
				err)
			continue
		}
		free := int64(fs.Bavail) * fs.Bsize
		if err := writable(x.dir); err != nil {
			v.say(x.of, Wrong, "give it to the user of the service: chown wexillum "+x.dir, "%v", err)
		} else if free < littleLeft {
			v.say(x.of, Look, "make room, or keep fewer backups (backup_keep)", "%d MB are free in %s", free>>20, x.dir)
		} else {
			v.say(x.of, Good, "", "%d GB are free in %s", free>>30, x.dir)
		}
	}
}

func writable(dir string) error {
	f, err := os.CreateTemp(dir, ".doctor-")
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}
