package e2e

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	otlp "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"wexillum.example/internal/doctor"
	"wexillum.example/internal/store"
)

// TestFigures has every figure that the alerts and the dashboard ask for, and no alert on a service that is well but those of what is not
// set up.
func TestFigures(t *testing.T) {
	t.Parallel()
	r := startService(t, demoDSN(t), nil)
	check(t, r.st.NoteBackup(t.Context(), "(database)",
		store.BackedUp{File: "x", At: time.Now().Add(-time.Hour).UTC().Format(time.RFC3339), Seq: 1, Bytes: 4711, Rows: 3}))
	if status, _, body := r.call("POST", "/api/v1/ask", r.token("harbour"),
		`{"subject":"maren.holtveig@ilvane.example","action":"spaces.enter","resource":"space:loan-dossier"}`); status != 200 {
		t.Fatal(status, body)
	}
	_, _, body := r.call("GET", "/metrics", r.token("harbour"), "")
	value := map[string]string{}
	for line := range strings.Lines(body) {
		if name, v, ok := strings.Cut(strings.TrimSpace(line), " "); ok && !strings.HasPrefix(line, "#") {
			bare, _, _ := strings.Cut(name, "{")
			value[bare], value[name] = v, v
		}
	}
	for name, want := range map[string]string{"wexillum_backup_bytes": "4711", "wexillum_changes_waiting": "0", "wexillum_systems_away": "0",
		"wexillum_events_waiting": "0"} {
		if value[name] != want {
			t.Errorf("%s is %q, not %s", name, value[name], want)
		}
	}
	if !strings.Contains(body, `schema="22"`) || !strings.HasPrefix(value["wexillum_backup_age_seconds"], "36") {
		t.Error(value["wexillum_backup_age_seconds"])
	}
	// What there is only where it is set up.
	besides := []string{"wexillum_certificate_seconds", "wexillum_system_read_age_seconds", "wexillum_follow_lag_seconds",
		"wexillum_expectations_broken", "wexillum_expectations_unknown"}
	named := regexp.MustCompile(`\b(wexillum|go_sql|process)_[a-z_]+`)
	alerts, err := os.ReadFile(filepath.Join(repository, "packaging/monitoring/alerts.yaml"))
	check(t, err)
	var rules struct {
		Groups []struct {
			Name  string
			Rules []struct {
				Alert, Expr, For string
				Labels           map[string]string
				Annotations      map[string]string
			}
		}
	}
	check(t, yaml.UnmarshalWithOptions(alerts, &rules, yaml.Strict()))
	asked := []string{}
	for _, g := range rules.Groups {
		for _, x := range g.Rules {
			asked = append(asked, named.FindAllString(x.Expr, -1)...)
			if x.Annotations["summary"] == "" || x.Annotations["action"] == "" ||
				!slices.Contains([]string{"page", "ticket"}, x.Labels["severity"]) {
				t.Errorf("%s says too little: %v %v", x.Alert, x.Labels, x.Annotations)
			}
		}
	}
	drawn, err := os.ReadFile(filepath.Join(repository, "packaging/monitoring/dashboard.json"))
	check(t, err)
	var board struct {
		Panels []struct {
			Title   string
			Targets []struct{ Expr string }
		}
	}
	check(t, json.Unmarshal(drawn, &board))
	for _, p := range board.Panels {
		if len(p.Targets) == 0 {
			t.Error(p.Title)
		}
		for _, x := range p.Targets {
			asked = append(asked, named.FindAllString(x.Expr, -1)...)
		}
	}
	if len(asked) < 40 {
		t.Errorf("%d figures", len(asked))
	}
	for _, name := range asked {
		if _, ok := value[name]; !ok && !slices.Contains(besides, name) {
			t.Errorf("nothing says %s", name)
		}
	}
	// Those, too, are figures of the program, as docs/watch.md has them.
	docs, err := os.ReadFile(filepath.Join(repository, "docs/watch.md"))
	check(t, err)
	for name := range value {
		if strings.HasPrefix(name, "wexillum_") && !strings.ContainsAny(name, "{") &&
			!strings.Contains(string(docs), strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(name, "_bucket"), "_sum"), "_count")) {
			t.Errorf("docs/watch.md says nothing of %s", name)
		}
	}
	for _, name := range besides {
		if !strings.Contains(string(docs), name) {
			t.Errorf("docs/watch.md says nothing of %s", name)
		}
	}
}

// TestDoctor looks at an installation that is well and at what is wrong with others, and says what to do.
func TestDoctor(t *testing.T) {
	t.Parallel()
	r := startService(t, demoDSN(t), nil)
	dir := t.TempDir()
	of := func(o *operator, status int, args ...string) map[string]doctor.Check {
		t.Helper()
		out, got := o.run(append([]string{"doctor", "-o", "json"}, args...)...)
		var all []doctor.Check
		if err := json.Unmarshal([]byte(out), &all); err != nil || got != status {
			t.Fatalf("status %d, not %d: %v\n%s", got, status, err, out)
		}
		by := map[string]doctor.Check{}
		for _, c := range all {
			by[c.Of] = c
			if c.State != doctor.Good && c.Do == "" {
				t.Errorf("nothing is to be done about %+v", c)
			}
		}
		return by
	}
	expect := func(all map[string]doctor.Check, name, state, found string) {
		t.Helper()
		if c := all[name]; c.State != state || !strings.Contains(c.Found, found) {
			t.Errorf("%s: %+v, not %s with %q", name, c, state, found)
		}
	}
	certify(t, dir, "ours")
	keys, settings := filepath.Join(dir, "keys"), filepath.Join(dir, "settings.yaml")
	check(t, os.WriteFile(settings,
		[]byte("public_url: "+r.url+"\nkey_file: "+keys+"\nbackup_dir: "+dir+"\nforgotten_list: "+filepath.Join(dir, "forgotten")+
			"\ntls_cert: "+filepath.Join(dir, "cert.pem")+"\ntls_key: "+filepath.Join(dir, "key.pem")+"\n"), 0o640))
	o := newOperator(t, "WEXILLUM_DATABASE="+r.dsn)
	o.says(0, "is made", "seal-key", keys)
	check(t, r.st.NoteBackup(t.Context(), "(database)",
		store.BackedUp{File: "x", At: time.Now().Add(-30 * time.Hour).UTC().Format(time.RFC3339)}))
	all := of(o, 3, "--config", settings)
	expect(all, "backups", doctor.Wrong, "30 hours ago")
	expect(all, "https", doctor.Look, "the certificate ends on")
	check(t, r.st.NoteBackup(t.Context(), "(database)", store.BackedUp{File: "y", At: time.Now().Add(-time.Hour).UTC().Format(time.RFC3339)}))
	all = of(o, 0, "--config", settings)
	for name, found := range map[string]string{
		"settings": settings, "listen": "127.0.0.1:8470", "database": "MariaDB 10", "database, packets": "64 MB",
		"database, durability": "on the disk", "schema": "version 22",
		"clock": "as the database's", "backups": "the last one is of", "reached from here": r.url, "disk for backups": "are free",
	} {
		expect(all, name, doctor.Good, found)
	}
	expect(all, "key file", doctor.Good, "opens every key")
	expect(all, "database, log", doctor.Look, "keeps no log")
	expect(all, "mail", doctor.Look, "no mail server is named")

	// What is wrong.
	check(t, os.Chmod(settings, 0o644))
	o.env = append(o.env, "WEXILLUM_LISTEN=0.0.0.0:8470", "WEXILLUM_TLS_CERT=", "WEXILLUM_TLS_KEY=", "WEXILLUM_BAKCUP_DIR=x",
		"WEXILLUM_SMTP=127.0.0.1:1", "WEXILLUM_MAIL_FROM=a@b.example",
		"WEXILLUM_BACKUP_DIR=/nowhere", "WEXILLUM_KEY_FILE=/nowhere", "WEXILLUM_PUBLIC_URL=http://127.0.0.1:1")
	all = of(o, 3, "--config", settings)
	expect(all, "settings", doctor.Look, "may be read by everybody")
	expect(all, "environment", doctor.Look, "WEXILLUM_BAKCUP_DIR")
	expect(all, "listen", doctor.Wrong, "is beyond this machine")
	expect(all, "mail", doctor.Wrong, "127.0.0.1:1: ")
	expect(all, "disk for backups", doctor.Wrong, "/nowhere")
	expect(all, "key file", doctor.Wrong, "/nowhere")
	expect(all, "reached from here", doctor.Look, "refused")
	o.env = append(o.env, "WEXILLUM_DATABASE=nobody@tcp(127.0.0.1:1)/x")
	expect(of(o, 3), "database", doctor.Wrong, "does not answer")
}

// TestTraces has what a request brings about told to a collector: in the trace that it was sent in, with its route and the change that it
// made, and without anybody's address.
func TestTraces(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	spans := map[string]*otlp.Span{}
	raw := []byte{}
	endpoint := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil || r.URL.Path != "/v1/traces" {
			t.Errorf("%s %v", r.URL.Path, err)
		}
		var got collector.ExportTraceServiceRequest
		if err := proto.Unmarshal(body, &got); err != nil {
			t.Error(err)
		}
		mu.Lock()
		defer mu.Unlock()
		raw = append(raw, body...)
		for _, of := range got.ResourceSpans {
			for _, scope := range of.ScopeSpans {
				for _, s := range scope.Spans {
					spans[s.Name] = s
				}
			}
		}
	}))
	defer endpoint.Close()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	at, kill, gone := startProgram(t, bin, demoDSN(t), "--traces", endpoint.URL)
	r := &running{t: t, url: at}
	token := r.token("harbour")
	const parent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01" // W3C Trace Context
	if status, _, body := r.call("POST", "/api/v1/bars", token, `{"address":"somebody@spam.example","reason":"x"}`, "traceparent",
		parent); status != 201 {
		t.Fatal(status, body)
	}
	r.call("GET", "/api/v1/guests/maren.holtveig@ilvane.example", token, "")
	kill(syscall.SIGTERM)
	<-gone
	mu.Lock()
	defer mu.Unlock()
	in, change := spans["POST /api/v1/bars"], spans["change"]
	if in == nil || change == nil || spans["GET /api/v1/guests/{address}"] == nil {
		t.Fatalf("%v", slices.Sorted(maps.Keys(spans)))
	}
	if hex.EncodeToString(in.TraceId) != "0af7651916cd43dd8448eb211c80319c" || hex.EncodeToString(in.ParentSpanId) != "b7ad6b7169203331" {
		t.Errorf("it is not in the trace that it was sent in: %x %x", in.TraceId, in.ParentSpanId)
	}
	has := map[string]string{}
	for _, a := range in.Attributes {
		has[a.Key] = a.Value.String()
	}
	if !strings.Contains(has["http.response.status_code"], "201") || !strings.Contains(has["http.route"], "/api/v1/bars") ||
		has["wexillum.request_id"] == "" {
		t.Error(has)
	}
	if bytes.Contains(raw, []byte("maren")) || bytes.Contains(raw, []byte("spam.example")) {
		t.Error("it names somebody")
	}
}
