package servers

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/freeport"
)

const (
	ejabberdConf = `hosts: ["%[2]s"]
loglevel: 4
certfiles: ["%[1]s/both.pem"]
ca_file: "%[1]s/ca.pem"
s2s_cafile: "%[1]s/ca.pem"
s2s_use_starttls: required
s2s_max_retry_delay: 1
auth_method: internal
auth_password_format: scram
listen:
  - {port: %[3]d, ip: "127.0.0.1", module: ejabberd_c2s, starttls: true, starttls_required: true}
  - {port: %[4]d, ip: "127.0.0.1", module: ejabberd_s2s_in}
  - {port: %[5]d, ip: "127.0.0.1", module: ejabberd_http, request_handlers: {/api: mod_http_api}}
api_permissions:
  here: {who: {ip: 127.0.0.1/8}, what: ["*"]}
modules:
  mod_roster: {}
  mod_disco: {}
  mod_offline: {}
  mod_s2s_dialback: {}
  mod_http_api: {}
`
	inetrc = `{resolv_conf,""}. {hosts_file,""}. clear_ns. {lookup,[file,dns]}. {nameserver,{127,0,0,1},%d}. {host,{127,0,0,1},["localhost"]}.
`
)

// Ejabberd is an XMPP server of a second implementation, as a partner has it. It federates with everybody.
type Ejabberd struct {
	*Process
	Domain string
	ports  [3]int // of clients, of other servers, of its own interface
}

// Ejabberd starts one for a domain on loopback.
func (r *Root) Ejabberd(ctx context.Context, domain string, n *Names, a *Authority) (*Ejabberd, error) {
	in, err := r.Folder("theirs")
	if err != nil {
		return nil, err
	}
	e := &Ejabberd{Domain: domain}
	for i := range e.ports {
		if e.ports[i], err = freeport.Find(); err != nil {
			return nil, err
		}
	}
	cert, key, err := a.Issue(domain)
	if err != nil {
		return nil, err
	}
	for name, b := range map[string][]byte{
		"both.pem": append(cert, key...), "ca.pem": a.PEM, "inetrc": fmt.Appendf(nil, inetrc, n.Port()),
		"ejabberd.yml": fmt.Appendf(nil, ejabberdConf, in, domain, e.ports[0], e.ports[1], e.ports[2]),
	} {
		if err := os.WriteFile(r.Path(in, name), b, 0o600); err != nil {
			return nil, err
		}
		if err := os.Chown(r.Path(in, name), Nobody, Nobody); err != nil {
			return nil, err
		}
	}
	code, err := filepath.Glob(r.Path("usr/lib/x86_64-linux-gnu/ejabberd-*/ebin/ejabberd.beam"))
	if err != nil || len(code) == 0 {
		return nil, fmt.Errorf("ejabberd is not in the root: %v %w", code, err)
	}
	inside, err := filepath.Rel(r.Dir, filepath.Dir(code[0]))
	if err != nil {
		return nil, err
	}
	c := r.Command(ctx, Nobody, "/usr/bin/erl", "+K", "true", "-noinput", "-pa", "/"+inside, "-mnesia", "dir", `"`+in+`/spool"`, "-s",
		"ejabberd")
	c.Env = append(c.Env, "EJABBERD_CONFIG_PATH="+in+"/ejabberd.yml", "EJABBERD_LOG_PATH="+in+"/ejabberd.log", "ERL_INETRC="+in+"/inetrc",
		"HOME="+in)
	if e.Process, err = r.Start(ctx, in, e.ports[:], c); err != nil {
		return nil, err
	}
	n.At(domain, e.ports[1])
	return e, nil
}

// Account makes an account, and says where its clients sign in.
func (e *Ejabberd) Account(ctx context.Context, name, password string) (a xmppchat.Account, err error) {
	body, err := json.Marshal(map[string]string{"user": name, "host": e.Domain, "password": password})
	if err != nil {
		return a, err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, fmt.Sprintf("http://127.0.0.1:%d/api/register", e.ports[2]),
		bytes.NewReader(body))
	if err != nil {
		return a, err
	}
	q.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(q)
	if err != nil {
		return a, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		b, _ := io.ReadAll(io.LimitReader(resp.Body, 1000))
		return a, fmt.Errorf("no account %s at %s: %s %s", name, e.Domain, resp.Status, b)
	}
	return xmppchat.Account{Address: name + "@" + e.Domain, Password: password, Server: fmt.Sprintf("127.0.0.1:%d", e.ports[0])}, nil
}
