package e2e

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
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
)

// certify writes a certificate for this machine, and its key.
func certify(t *testing.T, dir, name string) (pool *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	check(t, err)
	x := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
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

// TestExposed runs the program as operators do: it does not listen beyond this machine in clear, speaks https with a certificate that is read again
// when it is renewed, and tells what of its environment is no setting.
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
	cmd := exec.Command(bin, "serve", "--database", dsn, "--listen", "127.0.0.1:0", "--tls-cert", filepath.Join(dir, "cert.pem"), "--tls-key", filepath.Join(dir, "key.pem"))
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
		if out := strings.ReplaceAll(r.must("journal", "--kind", "sign_in", "--limit", "2", "-o", "json"), `\"`, `"`); !strings.Contains(out, `"from":"`+x.want+`","result":"in","way":"console"`) {
			t.Errorf("%s: %s", x.name, out)
		}
	}
}
