// Package config finds out how the service is to run: defaults, then a file,
// then the environment, then flags, the later over the earlier. It remembers
// where every value came from.
package config

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"sort"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/goccy/go-yaml"

	"wexillum.example/internal/secret"
)

// Option is one setting of the service.
type Option struct {
	Key   string // as in the file; the flag has hyphens, the environment WEXILLUM_ before
	Start string
	Help  string
	check func(string) string // what is wrong, or ""
}

// Options lists every setting.
var Options = []Option{
	{"listen", "127.0.0.1:8470", "address and port to listen on", listen},
	{"database",
		"",
		"data source name of the MariaDB database, as user:password@tcp(127.0.0.1:3306)/wexillum, or where it is: file:PATH, credential:NAME of systemd",
		dsn},
	{"only", "everything",
		"what the service does: everything, or decisions alone, near whoever asks: it follows the database, writes nothing and needs no right to",
		oneOf("everything", "decisions")},
	{"public_url", "", "address under which the service is known outside, without a slash at the end", publicURL},
	{"tls_cert", "", "file of the certificate, with its chain, for https of its own; read again when it changes", anything},
	{"tls_key", "", "file of its key", anything},
	{"key_file",
		"",
		"file of the keys that seal what must be readable again in the database, as the keys that sign for us; wexillum seal-key makes one; without it they stand there in clear",
		anything},
	{"trusted_proxies", "",
		"addresses of proxies before it, as 10.0.0.7, 10.1.0.0/16: who they say asks (X-Forwarded-For) is taken for who asks, and of nobody else",
		prefixes},
	{"allow_plain_http", "no",
		"listen beyond this machine without https and without a proxy: yes or no; passwords then go over the network in clear",
		oneOf("yes", "no")},
	{
		"secure_cookies",
		"auto",
		"send cookies over HTTPS alone: yes, no, or auto, which is yes where public_url begins with https",
		oneOf("auto", "yes", "no"),
	},
	{"log_level", "info", "what is logged: debug, info, warn or error", oneOf("debug", "info", "warn", "error")},
	{"publish_statement", "no", "publish a signed statement of what our side admits: yes or no", oneOf("yes", "no")},
	{"statement_minutes", "60", "minutes between two looks at partners' statements", number},
	{
		"statement_hosts",
		"public",
		"where partners' statements may be: public for https at public addresses alone, private for https anywhere, any for http too",
		oneOf("public", "private", "any"),
	},
	{"smtp", "", "mail server to send through, as mail.ours.example:587; nothing is sent without one", hostPort},
	{
		"smtp_tls",
		"required",
		"mail goes encrypted: required, opportunistic, or none for a server on the same machine",
		oneOf("required", "opportunistic", "none"),
	},
	{"smtp_user", "", "name at the mail server; empty where it asks for none", anything},
	{"smtp_password", "", "where the password at the mail server is: file:PATH, credential:NAME of systemd; or the password", anything},
	{"mail_from", "", "from whom mail comes, as Guests <guests@ours.example>", anything},
	{"mail_policy",
		"", "address and port of this machine at which mail servers ask before mail goes on, as 127.0.0.1:8477; nowhere without one", listenOr},
	{"fresh_minutes", "15",
		"minutes after signing in within which the gravest acts ask for no new proof: publishing, accounts, keys, brakes, signing off; 0 asks never",
		minutes},
	{"traces", "", "where traces are collected, by OpenTelemetry (OTLP over HTTP), as http://127.0.0.1:4318; none are made without it",
		publicURL},
	{"backup_dir", "", "folder that wexillum backup writes into", anything},
	{"backup_to", "", "public halves of the keys that backups are encrypted to, separated by commas (age1…); wexillum backup key makes one",
		anything},
	{"backup_keep", "14", "how many backups stay in the folder; older ones are taken away behind a new one", atLeastOne},
	{"forgotten_list", "",
		"file apart from the database that keeps who was forgotten, by marks and not by addresses, so that a backup from before forgets them again",
		anything},
	{"snapshot_file", "",
		"file in which the service keeps what it knows, so that the next start takes seconds where it would read every row; none without it",
		anything},
	{"follow_ms", "200", "milliseconds between two looks at what other services changed", number},
}

// Prefixes reads addresses and networks, separated by commas.
func Prefixes(text string) (out []netip.Prefix, err error) {
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		p, err := netip.ParsePrefix(w)
		if err != nil {
			a, wrong := netip.ParseAddr(w)
			if wrong != nil {
				return nil, fmt.Errorf("%q is no address and no network", w)
			}
			p = netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen())
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

func prefixes(s string) string {
	if _, err := Prefixes(s); err != nil {
		return err.Error() + "; write addresses and networks, as 10.0.0.7, 10.1.0.0/16"
	}
	return ""
}

// Exposed says why the service may not listen at an address as it is set; empty where it may: beyond this machine it speaks https, stands
// behind a proxy that does, or somebody says that it need not.
func (c Config) Exposed(address string) string {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return ""
	}
	a, err := netip.ParseAddr(host)
	if host == "localhost" || err == nil && a.IsLoopback() || c["tls_cert"].Value != "" || c["trusted_proxies"].Value != "" ||
		c["allow_plain_http"].Value == "yes" {
		return ""
	}
	return "listen " + address +
		" is beyond this machine, and passwords would go over the network in clear: set tls_cert and tls_key, or trusted_proxies where a proxy speaks https before it, or allow_plain_http: yes"
}

// Unknown lists variables of the environment that look like settings and are none.
func Unknown(environ []string) (out []string) {
	known := map[string]bool{}
	for _, o := range Options {
		known[o.Env()] = true
	}
	for _, n := range besides {
		known[n] = true
	}
	for _, e := range environ {
		if name, _, _ := strings.Cut(e, "="); strings.HasPrefix(name, "WEXILLUM_") && !known[name] {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}

// besides are variables of the environment that are no settings of the service: the client's, and names that keys are kept under by
// convention.
var besides = []string{"WEXILLUM_SERVER", "WEXILLUM_TOKEN", "WEXILLUM_SESSION", "WEXILLUM_PROFILE", "WEXILLUM_PASSWORD", "WEXILLUM_CONFIG",
	"WEXILLUM_BESIDE_KEY", "WEXILLUM_SUITE_KEY"}

func atLeastOne(s string) string {
	if n, err := strconv.Atoi(s); err != nil || n < 1 || n > 10000 {
		return "write a number from 1 to 10000"
	}
	return ""
}

// minutes takes 0 to a day.
func minutes(s string) string {
	if n, err := strconv.Atoi(s); err != nil || n < 0 || n > 1440 {
		return "write a number from 0 to 1440"
	}
	return ""
}

// listenOr is listen for what may be left out.
func listenOr(s string) string {
	if s == "" {
		return ""
	}
	return listen(s)
}

// Value is a setting with where it came from.
type Value struct{ Value, From string }

// Config is every setting by its key.
type Config map[string]Value

// Flag returns the name of an option's flag.
func (o Option) Flag() string { return strings.ReplaceAll(o.Key, "_", "-") }

// Env returns the name of an option's environment variable.
func (o Option) Env() string { return "WEXILLUM_" + strings.ToUpper(o.Key) }

// Load puts the settings together. file may be empty; flags holds those given.
func Load(file string, env func(string) (string, bool), flags map[string]string) (Config, error) {
	c := Config{}
	for _, o := range Options {
		c[o.Key] = Value{o.Start, "default"}
	}
	if file != "" {
		if err := c.readFile(file); err != nil {
			return nil, err
		}
	}
	for _, o := range Options {
		if v, ok := env(o.Env()); ok {
			c[o.Key] = Value{v, "environment " + o.Env()}
		}
		if v, ok := flags[o.Key]; ok {
			c[o.Key] = Value{v, "flag --" + o.Flag()}
		}
	}
	for _, key := range secrets {
		v := c[key]
		if strings.HasPrefix(v.From, "flag ") && passwordIn(key, v.Value) {
			return nil,
				fmt.Errorf("%s: a password in a command can be read by everybody on this machine; write it into the file of settings or into a file of its own, and file:PATH here",
					v.From)
		}
		if secret.Elsewhere(v.Value) {
			text, err := secret.At(v.Value)
			if err != nil {
				return nil, fmt.Errorf("%s %q (from %s): %w", key, v.Value, v.From, err)
			}
			c[key] = Value{text, v.From + ", " + v.Value}
		}
	}
	for _, o := range Options {
		if wrong := o.check(c[o.Key].Value); wrong != "" {
			return nil, fmt.Errorf("%s %q (from %s): %s", o.Key, shown(o.Key, c[o.Key].Value), c[o.Key].From, wrong)
		}
	}
	return c, nil
}

// secrets are settings that hold a password, or say where one is.
var secrets = []string{"database", "smtp_password"}

// passwordIn reports whether a setting says a password itself.
func passwordIn(key, value string) bool {
	if value == "" || secret.Elsewhere(value) {
		return false
	}
	if key != "database" {
		return true
	}
	d, err := mysql.ParseDSN(value)
	return err == nil && d.Passwd != ""
}

func (c Config) readFile(file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("the configuration cannot be read: %w", err)
	}
	var m map[string]any
	if err := yaml.Unmarshal(text, &m); err != nil {
		return fmt.Errorf("the configuration %s is not YAML: %v", file, err)
	}
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	for _, k := range keys {
		if _, ok := c[k]; !ok {
			return fmt.Errorf("the configuration %s has no setting %q; there are %s", file, k, names())
		}
		switch v := m[k].(type) {
		case map[string]any, []any, nil:
			return fmt.Errorf("the configuration %s: %s is one value", file, k)
		case bool:
			c[k] = Value{map[bool]string{true: "yes", false: "no"}[v], "file " + file}
		default:
			c[k] = Value{fmt.Sprint(v), "file " + file}
		}
	}
	return nil
}

func names() string {
	var out []string
	for _, o := range Options {
		out = append(out, o.Key)
	}
	return strings.Join(out, ", ")
}

// Lines lists key, value and source, with passwords hidden.
func (c Config) Lines() [][3]string {
	var out [][3]string
	for _, o := range Options {
		out = append(out, [3]string{o.Key, shown(o.Key, c[o.Key].Value), c[o.Key].From})
	}
	return out
}

func shown(key, value string) string {
	if key == "smtp_password" && value != "" {
		return "…"
	}
	if key != "database" || value == "" {
		return value
	}
	d, err := mysql.ParseDSN(value)
	if err != nil {
		return "…"
	}
	if d.Passwd != "" {
		d.Passwd = "…"
	}
	return d.FormatDSN()
}

// SecureCookies reports whether cookies go over HTTPS alone.
func (c Config) SecureCookies() bool {
	v := c["secure_cookies"].Value
	return v == "yes" || v == "auto" && strings.HasPrefix(c["public_url"].Value, "https://")
}

func oneOf(words ...string) func(string) string {
	return func(s string) string {
		for _, w := range words {
			if s == w {
				return ""
			}
		}
		return "write " + strings.Join(words, ", ")
	}
}

func listen(s string) string {
	if i := strings.LastIndexByte(s, ':'); i < 0 || i == len(s)-1 {
		return "write an address and a port, as 127.0.0.1:8470"
	}
	return ""
}

func dsn(s string) string {
	if s == "" {
		return ""
	}
	d, err := mysql.ParseDSN(s)
	if err != nil || d.DBName == "" {
		return "write user:password@tcp(127.0.0.1:3306)/wexillum"
	}
	return ""
}

func anything(string) string { return "" }

func hostPort(s string) string {
	if s == "" {
		return ""
	}
	return listen(s)
}

func publicURL(s string) string {
	if s == "" || (strings.HasPrefix(s, "https://") || strings.HasPrefix(s, "http://")) && !strings.HasSuffix(s, "/") {
		return ""
	}
	return "write https://host, without a slash at the end"
}

func number(s string) string {
	n := 0
	for _, c := range s {
		if c < '0' || c > '9' || n > 100000 {
			return "write a number from 10 to 60000"
		}
		n = n*10 + int(c-'0')
	}
	if n < 10 || n > 60000 {
		return "write a number from 10 to 60000"
	}
	return ""
}

// Commented is a file of settings in which every one stands as it is without it, with what it is for.
func Commented() string {
	var b strings.Builder
	b.WriteString("# Settings of Wexillum. Each stands here as it is without this file; take the mark away from a line to change it.\n")
	b.WriteString("# wexillum serve --config FILE --print-config shows what counts, and from where it comes.\n")
	for _, o := range Options {
		b.WriteString("\n")
		for line := range strings.SplitSeq(wrapped(o.Help, 100), "\n") {
			b.WriteString("# " + line + "\n")
		}
		fmt.Fprintf(&b, "#%s: %q\n", o.Key, o.Start)
	}
	return b.String()
}

// wrapped breaks a text into lines of at most so many characters, between words.
func wrapped(text string, width int) string {
	var lines []string
	line := ""
	for _, w := range strings.Fields(text) {
		if line != "" && len(line)+1+len(w) > width {
			lines, line = append(lines, line), ""
		}
		line = strings.TrimSpace(line + " " + w)
	}
	return strings.Join(append(lines, line), "\n")
}

// DecisionsOnly reports whether the service answers decisions and does nothing else.
func (c Config) DecisionsOnly() bool { return c["only"].Value == "decisions" }
