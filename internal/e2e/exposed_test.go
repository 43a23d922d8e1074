package e2e

import (
	"bufio"
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"database/sql"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/api"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
	"wexillum.example/internal/vault"
)

// certify writes a certificate for this machine, and its key.
func certify(t *testing.T, dir, name string) (pool *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	check(t, err)
	x := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true,
		BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, x, x, &key.PublicKey, key)
	check(t, err)
	pkcs, err := x509.MarshalPKCS8PrivateKey(key)
	check(t, err)
	cert := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	check(t, os.WriteFile(filepath.Join(dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs}), 0o600))
	check(t, os.WriteFile(filepath.Join(dir, "cert.pem"), cert, 0o644))
	pool = x509.NewCertPool()
	pool.AppendCertsFromPEM(cert)
	return pool
}

// TestExposed runs the program as operators do: it does not listen beyond this machine in clear, speaks https with a certificate that is
// read again when it is renewed, and tells what of its environment is no setting.
func TestExposed(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	dsn := dbtest.DSN(t)
	refused := func(want string, args ...string) {
		t.Helper()
		cmd := exec.Command(bin, append([]string{"serve", "--database", dsn}, args...)...)
		out, err := cmd.CombinedOutput()
		if err == nil || !strings.Contains(string(out), want) {
			t.Errorf("%v: %v %s", args, err, out)
		}
	}
	refused("is beyond this machine, and passwords would go over the network in clear", "--listen", "0.0.0.0:0")
	refused("tls_cert and tls_key belong together", "--listen", "0.0.0.0:0", "--tls-cert", "somewhere.pem")
	refused(`"10.0.0" is no address and no network`, "--trusted-proxies", "10.0.0.0/8, 10.0.0")
	dir := t.TempDir()
	first := certify(t, dir, "first")
	cmd := exec.Command(bin, "serve", "--database", dsn, "--listen", "127.0.0.1:0", "--tls-cert", filepath.Join(dir, "cert.pem"), "--tls-key",
		filepath.Join(dir, "key.pem"))
	cmd.Env = append(os.Environ(), "WEXILLUM_LISTENS=here")
	out, err := cmd.StderrPipe()
	check(t, err)
	check(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	at, warned := "", false
	lines := json.NewDecoder(out)
	for at == "" {
		var l struct{ Msg, Address, Name string }
		check(t, lines.Decode(&l))
		warned = warned || l.Name == "WEXILLUM_LISTENS" && strings.Contains(l.Msg, "is no setting of the service")
		if l.Msg == "listening" {
			at = l.Address
		}
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	if !warned {
		t.Error("a variable that is no setting is not told")
	}
	if _, port, ok := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(at, "https://"), "http://"), ":"); ok {
		at = "https://127.0.0.1:" + port
	}
	ask := func(pool *x509.CertPool) error {
		c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}, Timeout: 10 * time.Second}
		defer c.CloseIdleConnections()
		resp, err := c.Get(at + "/healthz")
		if err == nil {
			err = resp.Body.Close()
		}
		return err
	}
	check(t, ask(first))
	second := certify(t, dir, "second")
	for until := time.Now().Add(patience); ask(second) != nil; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("the renewed certificate is not used: %v", ask(second))
		}
	}
	check(t, os.WriteFile(filepath.Join(dir, "cert.pem"), []byte("half"), 0o644))
	time.Sleep(2500 * time.Millisecond) // longer than it is before the files are looked at again
	if err := ask(second); err != nil {
		t.Errorf("files that are no good took the certificate away: %v", err)
	}
}

// TestTrustedProxy takes who asks from a proxy that is trusted, and from nobody else.
func TestTrustedProxy(t *testing.T) {
	r := startService(t, demoDSN(t), nil)
	handler := func(trusted ...netip.Prefix) http.Handler {
		h, err := api.New(api.Options{Service: r.svc, Store: r.st, Log: quiet, Trusted: trusted})
		check(t, err)
		return h
	}
	here := netip.MustParsePrefix("127.0.0.0/8")
	inner := netip.MustParsePrefix("10.1.0.0/16")
	for _, x := range []struct {
		name, header, want string
		trusted            []netip.Prefix
	}{
		{"nobody is trusted", "203.0.113.9", "127.0.0.1", nil},
		{"the proxy is", "203.0.113.9", "203.0.113.9", []netip.Prefix{here}},
		{"what is said before it is not", "198.51.100.1, 203.0.113.9", "203.0.113.9", []netip.Prefix{here}},
		{"two proxies", "203.0.113.9, 10.1.2.3", "203.0.113.9", []netip.Prefix{here, inner}},
		{"nonsense", "somebody", "127.0.0.1", []netip.Prefix{here}},
		{"another proxy is", "203.0.113.9", "127.0.0.1", []netip.Prefix{inner}},
	} {
		srv := httptest.NewServer(handler(x.trusted...))
		req, err := http.NewRequest("POST", srv.URL+"/api/v1/session", bytes.NewReader([]byte(`{"name":"harbour","password":"low-water-2026"}`)))
		check(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-Forwarded-For", x.header)
		resp, err := http.DefaultClient.Do(req)
		check(t, err)
		_ = resp.Body.Close()
		srv.Close()
		if resp.StatusCode != 200 {
			t.Fatalf("%s: %s", x.name, resp.Status)
		}
		r.login("harbour")
		// The one before is that of the client, from here.
		if out := strings.ReplaceAll(r.must("journal", "--kind", "sign_in", "--limit", "2", "-o", "json"), `\"`, `"`); !strings.Contains(out,
			`"from":"`+x.want+`","result":"in","way":"console"`) {
			t.Errorf("%s: %s", x.name, out)
		}
	}
}

// TestSealKey keeps the private halves of our keys sealed with a key of a file: sealed at the start, the same key as before, rotated, not
// started without it, and given up where it is lost.
func TestSealKey(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	dsn := dbtest.DSN(t)
	r := startService(t, dsn, nil) // another service, with which nothing is sealed
	check(t, r.svc.RollKey(t.Context(), service.By{Who: "test", Why: "to sign"}, service.AnnounceKey))
	st, err := store.Open(t.Context(), dsn, nil)
	check(t, err)
	defer st.Close()
	kept := func() string {
		t.Helper()
		db, err := sql.Open("mysql", dsn)
		check(t, err)
		defer db.Close()
		var private string
		check(t, db.QueryRow("SELECT private FROM signing_key").Scan(&private))
		return private
	}
	clear := kept()
	if !strings.Contains(clear, `"d":`) {
		t.Fatalf("what is kept: %s", clear)
	}
	file := filepath.Join(t.TempDir(), "keys")
	run := func(args ...string) string {
		t.Helper()
		out, err := exec.Command(bin, args...).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %v %s", args, err, out)
		}
		return string(out)
	}
	// serves starts the program, and ends it once it listens; refused is what it says where it does not.
	serves := func(args ...string) (refused string) {
		t.Helper()
		cmd := exec.Command(bin, append([]string{"serve", "--database", dsn, "--listen", "127.0.0.1:0"}, args...)...)
		out, err := cmd.StderrPipe()
		check(t, err)
		check(t, cmd.Start())
		lines := bufio.NewScanner(out)
		said := ""
		for lines.Scan() {
			said += lines.Text() + "\n"
			if strings.Contains(lines.Text(), `"listening"`) {
				_ = cmd.Process.Kill()
				said = ""
				break
			}
		}
		_, _ = io.Copy(io.Discard, out)
		_ = cmd.Wait()
		return said
	}
	if out := run("seal-key", file); !strings.Contains(out, "is made. Set key_file to it") {
		t.Error(out)
	}
	if said := serves("--key-file", file); said != "" {
		t.Fatal(said)
	}
	one := kept()
	if !strings.HasPrefix(one, "sealed:") || strings.Contains(one, `"d"`) {
		t.Errorf("sealed: %s", one)
	}
	opened := func() string {
		t.Helper()
		v, err := vault.Read(file)
		check(t, err)
		_, err = st.SetVault(t.Context(), v)
		check(t, err)
		keys, err := st.Keys(t.Context())
		check(t, err)
		return string(keys[0].Private)
	}
	if opened() != clear {
		t.Error("what is sealed is another key")
	}
	first, err := os.ReadFile(file)
	check(t, err)
	if out := run("seal-key", file); !strings.Contains(out, "has a new key before the others") {
		t.Error(out)
	}
	if said := serves("--key-file", file); said != "" {
		t.Fatal(said)
	}
	if two := kept(); two == one || opened() != clear {
		t.Errorf("rotated: %s", two)
	}
	both, err := os.ReadFile(file)
	check(t, err)
	check(t, os.WriteFile(file, bytes.TrimSuffix(both, first), 0o600))
	if said := serves("--key-file", file); said != "" {
		t.Fatalf("without the old key: %s", said)
	}
	check(t, os.WriteFile(file, first, 0o600))
	if said := serves("--key-file", file); !strings.Contains(said, "the key that sealed it is not there") ||
		!strings.Contains(said, "wexillum seal-key --lost") {
		t.Errorf("with another key: %s", said)
	}
	if said := serves(); !strings.Contains(said, "name the file that holds it as key_file") {
		t.Errorf("without a key: %s", said)
	}
	if out := run("seal-key", "--lost", "--database", dsn, "--key-file", file, "--why",
		"the file went with the machine"); !strings.Contains(out, "One key is given up") {
		t.Error(out)
	}
	if said := serves("--key-file", file); said != "" {
		t.Errorf("after it is given up: %s", said)
	}
	// What the key file of the settings opens is not given up, whether or not it is named once more.
	settings := filepath.Join(t.TempDir(), "settings.yaml")
	check(t, os.WriteFile(settings, []byte("database: "+dsn+"\nkey_file: "+file+"\n"), 0o600))
	if out := run("seal-key", "--lost", "--config", settings, "--why", "x"); !strings.Contains(out, "Nothing is lost") {
		t.Error(out)
	}
}
