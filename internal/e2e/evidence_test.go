package e2e

import (
	"archive/zip"
	"bytes"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// record makes a record and returns its id.
func (r *running) record(args ...string) string {
	r.t.Helper()
	var x struct{ ID string }
	check(r.t, json.Unmarshal([]byte(r.must(append([]string{"evidence", "make", "-o", "json"}, args...)...)), &x))
	return x.ID
}

// files reads an archive, part by part.
func files(t *testing.T, path string) (names []string, parts map[string][]byte) {
	t.Helper()
	z, err := zip.OpenReader(path)
	check(t, err)
	defer z.Close()
	parts = map[string][]byte{}
	for _, f := range z.File {
		in, err := f.Open()
		check(t, err)
		b, err := io.ReadAll(in)
		check(t, err)
		names, parts[f.Name] = append(names, f.Name), b
	}
	return
}

func archive(t *testing.T, path string, names []string, parts map[string][]byte) {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range names {
		f, err := z.Create(name)
		check(t, err)
		_, err = f.Write(parts[name])
		check(t, err)
	}
	check(t, z.Close())
	check(t, os.WriteFile(path, b.Bytes(), 0o600))
}

// TestEvidence makes records, compares them with what the service answers, verifies them with and without it, alters every part of
// one by one byte, rolls the key, writes the journal anew, forgets somebody, and signs one off.
func TestEvidence(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	dir := t.TempDir()
	r.says(0, "There is no record yet", "evidence", "list")
	r.says(2, "give --why", "evidence", "make")
	r.says(1, "what lies ahead nobody can testify", "evidence", "make", "--at", "+3d", "--why", "x")
	r.says(1, "there is no account of this name", "evidence", "make", "--sign-off", "nobody", "--why", "x")
	r.says(1, "is no party", "evidence", "make", "--party", "freight", "--why", "x")
	r.says(1, "there is no record of reach", "evidence", "show", "none")

	id := r.record("--party", "partner:ilvane", "--resource", "space:loan-dossier", "--sign-off", "lantern", "--why", "the loan ends")
	file := filepath.Join(dir, "record.zip")
	r.must("evidence", "save", id, file)
	if out := r.says(0, "▲ as signed", "evidence", "verify", file); strings.Contains(out, "NOT") {
		t.Error(out)
	}
	out := r.says(0, "of the journal holds this manifest", "evidence", "verify", id)
	key := strings.Fields(out[strings.Index(out, "by the key ")+len("by the key "):])[0]
	key = strings.TrimSuffix(key, ",")
	r.says(0, "which is trusted", "evidence", "verify", file, "--key", key)
	r.says(3, "none of those that are trusted", "evidence", "verify", file, "--key", "another")

	// It says what the audience says.
	names, parts := files(t, file)
	said := map[string]bool{}
	who := map[string]string{}
	rows, err := csv.NewReader(bytes.NewReader(parts["names.csv"])).ReadAll()
	check(t, err)
	for _, x := range rows[1:] {
		who[x[0]] = x[3]
	}
	if rows, err = csv.NewReader(bytes.NewReader(parts["lines.csv"])).ReadAll(); err != nil {
		t.Fatal(err)
	}
	for _, x := range rows[1:] {
		said[who[x[0]]+" "+x[5]+" "+x[6]] = true
	}
	if strings.Contains(string(parts["lines.csv"]), "@") {
		t.Error("lines name somebody")
	}
	var lines []struct{ Party, Action, Resource, Partner string }
	check(t, json.Unmarshal([]byte(r.must("audience", "space:loan-dossier", "--all", "-o", "json")), &lines))
	want := map[string]bool{}
	for _, l := range lines {
		if l.Partner == "ilvane" {
			want[l.Party+" "+l.Action+" "+l.Resource] = true
		}
	}
	for k := range want {
		if !said[k] {
			t.Errorf("the record lacks %s", k)
		}
	}
	for k := range said {
		if !want[k] {
			t.Errorf("the record says %s, and the audience does not", k)
		}
	}
	if len(want) < 100 {
		t.Errorf("only %d lines", len(want))
	}

	// One byte of any part.
	for _, name := range []string{"manifest.jws", "lines.csv", "names.csv", "keys.json", "journal.json", "sheet.html", "seal.jws"} {
		for _, at := range []int{len(parts[name]) / 3, len(parts[name]) / 2, len(parts[name]) - 30} {
			altered := map[string][]byte{}
			for k, v := range parts {
				altered[k] = slices.Clone(v)
			}
			b := altered[name]
			for b[at] < '0' || b[at] > 'y' || b[at] == '9' || b[at] == 'Z' { // a letter or digit
				at++
			}
			b[at]++
			other := filepath.Join(dir, "altered-"+name+strconv.Itoa(at)+".zip")
			archive(t, other, names, altered)
			if status, out, errs := r.client("", "evidence", "verify", other); status == 0 {
				t.Errorf("%s altered at %d is taken: %s %s", name, at, out, errs)
			}
		}
	}
	missing := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == "names.csv" })
	archive(t, filepath.Join(dir, "missing.zip"), missing, parts)
	r.says(3, "it is missing", "evidence", "verify", filepath.Join(dir, "missing.zip"))
	check(t, os.WriteFile(filepath.Join(dir, "no.zip"), []byte("no"), 0o600))
	r.says(1, "it is no archive of a record", "evidence", "verify", filepath.Join(dir, "no.zip"))

	// What changed between two, explained line by line.
	r.must("grant", "add", "vesper.larkmoor@ilvane.example", "folder:loan-valuations", "--role", "view", "--why", "for the survey")
	later := r.record("--party", "partner:ilvane", "--resource", "space:loan-dossier", "--why", "the survey")
	out = r.says(0, "+ gained", "evidence", "diff", id, later)
	if !strings.Contains(out, "vesper.larkmoor@ilvane.example") || !strings.Contains(out, "files.open") || strings.Contains(out, "lost") ||
		strings.Contains(out, "maren") {
		t.Error(out)
	}
	laterFile := filepath.Join(dir, "later.zip")
	r.must("evidence", "save", later, laterFile)
	if offline := r.must("evidence", "diff", file, laterFile); offline != out {
		t.Errorf("of files:\n%s\nof the service:\n%s", offline, out)
	}
	r.says(0, "They say the same", "evidence", "diff", id, id)
	r.says(2, "compare two files, or two records", "evidence", "diff", file, later)

	// The past is recorded as it was.
	before := r.record("--party", "partner:ilvane", "--resource", "space:loan-dossier", "--at", madeAt(t, r, id), "--why",
		"what was it before")
	r.says(0, "They say the same", "evidence", "diff", id, before)

	// A key that signs no longer still verifies what it signed; two rolls later, too.
	for range 2 {
		r.must("statement", "announce", "--why", "a year is over")
		r.must("statement", "switch", "--why", "a year is over")
	}
	r.says(0, "▲ as signed", "evidence", "verify", id)
	r.must("evidence", "save", id, filepath.Join(dir, "rolled.zip"))
	if out := r.must("evidence", "verify", filepath.Join(dir, "rolled.zip")); strings.Contains(out, "NOT") {
		t.Error(out)
	}

	// Whoever must signs it off, with the password again.
	if status, out, errs := r.client("wrong\n", "evidence", "sign", id); status == 0 ||
		!strings.Contains(errs, "it is not the password of harbour") {
		t.Errorf("%d %s%s", status, out, errs)
	}
	if out := r.must("evidence", "show", id); !strings.Contains(out, "still to sign lantern") {
		t.Error(out)
	}
	status, _, body := r.call("POST", "/api/v1/evidence/"+id+"/sign-off", r.token("lantern"),
		`{"password":"read-the-log-2026","note":"compared with the lender's list"}`)
	if status != 200 || !strings.Contains(body, `"open":[]`) {
		t.Errorf("%d %s", status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/evidence/"+id+"/sign-off", r.token("lantern"),
		`{"password":"read-the-log-2026"}`); status != 409 {
		t.Errorf("%d %s", status, body)
	}
	r.says(0, "▲ as signed", "evidence", "verify", id)
	if _, _, page := r.call("GET", "/api/v1/evidence/"+id+"/sheet", r.token("lantern"), ""); !strings.Contains(page,
		"maren.holtveig@ilvane.example") || !strings.Contains(page, "compared with the lender") ||
		!strings.Contains(page, "What everybody from Ilvane Conservation may do") {
		t.Errorf("the sheet: %.500s", page)
	}
	printed := filepath.Join(t.TempDir(), "sheet.pdf")
	r.login("lantern")
	r.says(0, "The sheet of the record "+id+" is in", "evidence", "sheet", id, printed)
	r.says(2, "name a file that ends in .pdf or .html", "evidence", "sheet", id, "record.txt")
	r.says(1, "file exists", "evidence", "sheet", id, printed)
	if pdf, err := os.ReadFile(printed); err != nil || !bytes.HasPrefix(pdf, []byte("%PDF-1.")) || !bytes.Contains(pdf, []byte("%%EOF")) ||
		len(pdf) < 10_000 {
		t.Errorf("the sheet as PDF: %v, %d bytes", err, len(pdf))
	}
	r.login("harbour")

	// Somebody is forgotten: the record stays valid, and names them no more.
	db, err := sql.Open("mysql", r.dsn)
	check(t, err)
	defer db.Close()
	// as forgetting does; TestForgetWhole has it done
	res, err := db.Exec("UPDATE evidence_name SET salt = '', name = '' WHERE name = ?", "maren.holtveig@ilvane.example")
	check(t, err)
	if n, _ := res.RowsAffected(); n < 2 {
		t.Errorf("%d names", n)
	}
	r.says(0, "1 of the names were forgotten", "evidence", "verify", id)

	// Lines that are altered in the database, and a journal that is written anew.
	if _, err := db.Exec("UPDATE evidence_part SET piece = REPLACE(piece, 'files.open', 'files.edit') WHERE evidence = ?", later); err != nil {
		t.Fatal(err)
	}
	r.says(3, "it is not what was signed", "evidence", "verify", later)
	if _, err := db.Exec("UPDATE journal SET why = 'nothing of the sort' WHERE seq = 3"); err != nil {
		t.Fatal(err)
	}
	r.says(3, "the journal was altered", "evidence", "verify", id)
}

func madeAt(t *testing.T, r *running, id string) string {
	t.Helper()
	var x struct{ At string }
	check(t, json.Unmarshal([]byte(r.must("evidence", "show", id, "-o", "json")), &x))
	return x.At
}

// TestEvidenceInTheConsole makes one, verifies it and signs it off, as an auditor does.
func TestEvidenceInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "lantern")
	p.goTo("/evidence", "document.querySelector('.page h1')")
	p.axe("no records")
	p.presses(".page", "Make one")
	p.until("document.querySelector('#r-why')")
	p.axe("a record that is made")
	p.fill("#r-must", "lantern")
	p.fill("#r-why", "the year ends")
	p.presses(".modal", "Make it")
	p.until("location.pathname.startsWith('/evidence/2') && document.querySelector('.facts')")
	p.presses(".page", "Verify it")
	p.until("document.querySelector('.verified') && document.querySelector('.verified').textContent.includes('as it was signed')")
	p.axe("a record")
	p.presses(".page", "Sign it off")
	p.until("document.querySelector('#s-password')")
	p.do(chromedp.SendKeys("#s-password", "read-the-log-2026"))
	p.presses(".modal", "Sign it off")
	p.until("!document.querySelector('.modal') && document.querySelector('.facts').textContent.includes('Signed off')")
	p.goTo("/evidence", "document.querySelector('.listing tbody tr')")
	p.axe("records")
	p.presses(".page", "Make one")
	p.until("document.querySelector('#r-every')")
	p.fill("#r-every", "90")
	p.fill("#r-why", "the insurer asks every quarter")
	p.presses(".modal", "Make it")
	p.until("document.querySelector('[aria-labelledby=h-plans] li')?.innerText.includes('every 90 days')")
	p.axe("plans of records")
	p.picture("evidence-plans")
	p.presses("[aria-labelledby=h-plans]", "End it")
	p.fill("#ep-why", "the loan is over")
	p.presses(".modal", "End it")
	p.until("!document.querySelector('[aria-labelledby=h-plans]')")
}
