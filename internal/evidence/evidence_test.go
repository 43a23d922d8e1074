package evidence

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/go-jose/go-jose/v4"

	"wexillum.example/internal/statement"
)

func check(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// key is one that signs.
type key struct {
	thumbprint string
	private    []byte
	public     json.RawMessage
}

func newKey(t *testing.T) (k key) {
	t.Helper()
	var err error
	k.thumbprint, k.private, err = statement.NewKey()
	check(t, err)
	set, err := statement.PublicKeys(k.private)
	check(t, err)
	var all jose.JSONWebKeySet
	check(t, json.Unmarshal(set, &all))
	k.public, err = json.Marshal(all.Keys[0])
	check(t, err)
	return
}

// archive is a record whose files can be altered before it is packed.
type archive struct {
	t     *testing.T
	key   key
	files map[string][]byte
	jws   string
}

var twoLines = []Line{
	{Party: 1, Kind: "guest", Partner: "tarn", Action: "files.open", Resource: "file:plan", Count: 1, Conditions: []string{"sign_in", "accept_terms"}},
	{Party: 2, Kind: "federated", Partner: "", Newcomer: true, Person: "uma", Action: "chat.message", Resource: "person:*", Count: 12},
}

// newArchive makes a record of two lines about two parties, signed in change 7.
func newArchive(t *testing.T) *archive {
	t.Helper()
	a := &archive{t: t, key: newKey(t), files: map[string][]byte{}}
	var lines, names bytes.Buffer
	w, err := NewWriter(&lines)
	check(t, err)
	for i := range twoLines {
		check(t, w.Add(&twoLines[i]))
	}
	part, err := w.Done()
	check(t, err)
	if part.Name != LinesFile || part.Lines != 2 || part.Bytes != int64(lines.Len()) || part.SHA256 != DigestOf(lines.Bytes()) {
		t.Errorf("what was written is %+v", part)
	}
	sum, c := NewNames(), csv.NewWriter(&names)
	check(t, c.Write(NameColumns))
	for i, who := range []string{"ann@tarn.example", "*@fell.example"} {
		n := NewName(i+1, who)
		sum.Add(&n)
		check(t, c.Write([]string{strconv.Itoa(n.Party), n.Digest, n.Salt, n.Name}))
	}
	c.Flush()
	m := &Manifest{Record: "2026-12-01-abc", Organisation: "Harbour", Parts: []Part{part, sum.Done()}}
	a.jws, err = statement.SignAs(Type, m, a.key.private)
	check(t, err)
	a.files[ManifestFile], a.files[LinesFile], a.files[NamesFile] = []byte(a.jws), lines.Bytes(), names.Bytes()
	a.keys(Key{Thumbprint: a.key.thumbprint, Key: a.key.public, History: []KeyState{{Change: 3, State: "current"}, {Change: 9, State: "retired"}}})
	a.json(JournalFile, Entry{Change: 7, At: "2026-12-01T12:00:00Z", Digest: Digest(a.jws)})
	a.files[SheetFile] = []byte("<p>a sheet</p>")
	a.seal()
	return a
}

func (a *archive) json(name string, x any) {
	a.t.Helper()
	b, err := json.Marshal(x)
	check(a.t, err)
	a.files[name] = b
}

func (a *archive) keys(all ...Key) {
	a.t.Helper()
	a.json(KeysFile, all)
}

// seal seals what came after the manifest, as it is now.
func (a *archive) seal() {
	a.t.Helper()
	s := Seal{Record: "2026-12-01-abc", Files: map[string]string{}}
	for _, name := range []string{KeysFile, JournalFile, SheetFile} {
		s.Files[name] = DigestOf(a.files[name])
	}
	jws, err := statement.SignAs(SealType, s, a.key.private)
	check(a.t, err)
	a.files[SealFile] = []byte(jws)
}

func (a *archive) packed() *bytes.Reader {
	a.t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, b := range a.files {
		f, err := z.Create(name)
		check(a.t, err)
		_, err = f.Write(b)
		check(a.t, err)
	}
	check(a.t, z.Close())
	return bytes.NewReader(out.Bytes())
}

// verified is what was checked, a line each.
func (a *archive) verified(trusted []string, entry func(string) (*Entry, error)) string {
	a.t.Helper()
	r := a.packed()
	m, checks, err := Verify(r, r.Size(), trusted, entry)
	if err != nil {
		return "error: " + err.Error() + "\n"
	}
	if m.Record != "2026-12-01-abc" {
		a.t.Errorf("it is the record %s", m.Record)
	}
	var out strings.Builder
	for _, c := range checks {
		fmt.Fprintf(&out, "%s %t: %s\n", c.What, c.OK, strings.ReplaceAll(c.Says, a.key.thumbprint, "KEY"))
	}
	return out.String()
}

const (
	linesHold = "lines.csv true: 2 lines, as they were signed\n"
	namesHold = "names.csv true: 2 lines, as they were signed\n"
	signed    = "signature true: it holds, by the key KEY of Harbour; compare it with one that they told you by another way\n"
	packedUp  = "archive true: its keys, journal entry and sheet are as they were when it was written\n"
)

// TestVerify: whatever is altered in a record is told, and what it is; and what may be taken out of it, may.
func TestVerify(t *testing.T) {
	forge := func(a *archive, name, old, with string) {
		if !bytes.Contains(a.files[name], []byte(old)) {
			t.Fatalf("%s holds no %q: %s", name, old, a.files[name])
		}
		a.files[name] = bytes.Replace(a.files[name], []byte(old), []byte(with), 1)
	}
	for _, c := range []struct {
		what   string
		change func(a *archive)
		want   string
	}{
		{"as it was made", func(*archive) {}, linesHold + namesHold + signed + packedUp},
		{"another number", func(a *archive) { forge(a, LinesFile, ",12,", ",13,") },
			"lines.csv false: it is not what was signed: 2 lines, and 2 were written\n" + namesHold + signed + packedUp},
		{"a line less", func(a *archive) {
			a.files[LinesFile] = a.files[LinesFile][:bytes.LastIndexByte(bytes.TrimSpace(a.files[LinesFile]), '\n')+1]
		}, "lines.csv false: it is not what was signed: 1 lines, and 2 were written\n" + namesHold + signed + packedUp},
		{"another name", func(a *archive) { forge(a, NamesFile, "ann@", "eve@") },
			linesHold + "names.csv false: the name of party 1 is not the one that was signed\n" + signed + packedUp},
		{"a name that was forgotten", func(a *archive) {
			rows, err := csv.NewReader(bytes.NewReader(a.files[NamesFile])).ReadAll()
			check(t, err)
			rows[1][2], rows[1][3] = "", ""
			var out bytes.Buffer
			check(t, csv.NewWriter(&out).WriteAll(rows))
			a.files[NamesFile] = out.Bytes()
		}, linesHold + "names.csv true: 2 lines, as they were signed; 1 of the names were forgotten\n" + signed + packedUp},
		{"no lines", func(a *archive) { delete(a.files, LinesFile) }, "lines.csv false: it is missing\n" + namesHold + signed + packedUp},
		{"no manifest", func(a *archive) { delete(a.files, ManifestFile) }, "error: manifest.jws is missing\n"},
		{"another sheet", func(a *archive) { forge(a, SheetFile, "a sheet", "a page") },
			linesHold + namesHold + signed + "archive false: sheet.html is not as it was when the archive was written\n"},
		{"no seal", func(a *archive) { delete(a.files, SealFile) }, linesHold + namesHold + signed + "archive false: seal.jws is missing\n"},
		{"a journal entry of another record", func(a *archive) {
			a.json(JournalFile, Entry{Change: 7, Digest: Digest("another")})
			a.seal()
		}, linesHold + namesHold + "signature false: the journal entry that is with it is of another manifest\n" + packedUp},
		{"a key that was retired by then", func(a *archive) {
			a.keys(Key{Thumbprint: a.key.thumbprint, Key: a.key.public, History: []KeyState{{Change: 3, State: "current"}, {Change: 5, State: "retired"}}})
			a.seal()
		}, linesHold + namesHold + "signature false: the key was not the one that signs when the journal took it in (change 7): it was \"retired\"\n" +
			packedUp},
		{"another key under its name", func(a *archive) {
			other := newKey(t)
			a.keys(Key{Thumbprint: a.key.thumbprint, Key: other.public, History: []KeyState{{Change: 3, State: "current"}}})
		}, linesHold + namesHold + "signature false: the key is not the one that it is called\n" + "archive false: its seal does not hold\n"},
		{"signed by somebody else", func(a *archive) {
			other := newKey(t)
			m, _, err := Manifested(a.jws)
			check(t, err)
			jws, err := statement.SignAs(Type, m, other.private)
			check(t, err)
			a.files[ManifestFile] = []byte(jws)
		}, linesHold + namesHold + "signature false: the key \"OTHER\" that signed it is not with it\n" + packedUp},
	} {
		a := newArchive(t)
		c.change(a)
		_, by, _ := Manifested(string(a.files[ManifestFile]))
		want := c.want
		if by != a.key.thumbprint {
			want = strings.ReplaceAll(want, "OTHER", by)
		}
		if got := a.verified(nil, nil); got != want {
			t.Errorf("%s:\n%s\nwanted is\n%s", c.what, got, want)
		}
	}
	if _, _, err := Verify(strings.NewReader("no archive"), 10, nil, nil); err == nil || !strings.HasPrefix(err.Error(), "it is no archive of a record: ") {
		t.Error(err)
	}
}

// TestVerifyTrusted: a record holds by keys that are known to be the organisation's, and against the journal of who made it.
func TestVerifyTrusted(t *testing.T) {
	a := newArchive(t)
	other := newKey(t).thumbprint
	entry := func(digest string, err error) func(string) (*Entry, error) {
		return func(record string) (*Entry, error) {
			if record != "2026-12-01-abc" {
				t.Errorf("asked for %s", record)
			}
			return &Entry{Change: 7, Digest: digest}, err
		}
	}
	for _, c := range []struct {
		trusted []string
		entry   func(string) (*Entry, error)
		want    string
	}{
		{[]string{a.key.thumbprint}, nil, "signature true: it holds, by the key KEY, which is trusted\n" + packedUp},
		{[]string{other}, nil, "signature false: it holds, by the key KEY, which is none of those that are trusted\n" +
			"archive false: its seal holds, by the key KEY, which is none of those that are trusted; name it with --key, too, if it is theirs\n"},
		{nil, entry(Digest(a.jws), nil), signed + packedUp + "journal true: change 7 of the journal holds this manifest\n"},
		{nil, entry("another", nil), signed + packedUp + "journal false: the journal holds another manifest of this record\n"},
		{nil, entry("", fmt.Errorf("there is no such record")), signed + packedUp + "journal false: there is no such record\n"},
	} {
		if got, want := a.verified(c.trusted, c.entry), linesHold+namesHold+c.want; got != want {
			t.Errorf("%v:\n%s\nwanted is\n%s", c.trusted, got, want)
		}
	}
}

// TestOpened: the lines of an archive come back as they were written, with whom they are about.
func TestOpened(t *testing.T) {
	r := newArchive(t).packed()
	s, m, err := Opened(r, r.Size())
	check(t, err)
	var got []Line
	check(t, s.Lines(func(l *Line) error { got = append(got, *l); return nil }))
	if fmt.Sprint(got) != fmt.Sprint(twoLines) || m.Organisation != "Harbour" {
		t.Errorf("%+v of %s", got, m.Organisation)
	}
	if who := []string{s.Name(1), s.Name(2), s.Name(3)}; !slices.Equal(who, []string{"ann@tarn.example", "*@fell.example", "party 3, forgotten"}) {
		t.Errorf("%q", who)
	}
	for text, want := range map[string]string{
		"a,b\n":                           "",
		"a\n1,guest\n":                    "record on line 2: wrong number of fields",
		"a,b\n1,guest\n":                  "a line has 9 columns, and 2 are written",
		"a,b,c,d,e,f,g,h,i\nx,,,,,,,1,\n": `strconv.Atoi: parsing "x": invalid syntax`,
		"a,b,c,d,e,f,g,h,i\n1,,,,,,,y,\n": `strconv.Atoi: parsing "y": invalid syntax`,
	} {
		err := EachLine(strings.NewReader(text), func(*Line) error { return nil })
		if got := fmt.Sprint(err); got != want && !(want == "" && err == nil) {
			t.Errorf("%q: %s", text, got)
		}
	}
}

// TestDifference: two records are compared by who may do what with what, sorted.
func TestDifference(t *testing.T) {
	source := func(lines ...Line) *Source {
		return &Source{
			Lines: func(fn func(*Line) error) error {
				for i := range lines {
					if err := fn(&lines[i]); err != nil {
						return err
					}
				}
				return nil
			},
			Name: func(n int) string { return []string{"", "ann@tarn.example", "ben@tarn.example"}[n] },
		}
	}
	line := func(party int, action, resource string, count int, conditions ...string) Line {
		return Line{Party: party, Action: action, Resource: resource, Count: count, Conditions: conditions}
	}
	towards := line(1, "mail.forward", "mailbox:uma", 1)
	towards.Person = "uma"
	was := source(line(1, "files.open", "file:*", 3), line(1, "files.edit", "file:plan", 1), line(2, "chat.read", "channel:deck", 1),
		line(2, "chat.send", "channel:deck", 1, "sign_in"))
	is := source(line(1, "files.open", "file:*", 2), line(1, "files.open", "file:*", 3), line(2, "chat.send", "channel:deck", 1), towards,
		line(2, "chat.read", "channel:deck", 1))
	got, err := Difference(was, is)
	check(t, err)
	want := []Differs{
		{"lost", "ann@tarn.example", "files.edit", "file:plan", "", ""},
		{"gained", "ann@tarn.example", "files.open", "file:*", "3", "5"},
		{"otherwise", "ben@tarn.example", "chat.send", "channel:deck", "sign_in", ""},
		{"gained", "person:uma towards ann@tarn.example", "mail.forward", "mailbox:uma", "", ""},
	}
	if !slices.Equal(got, want) {
		t.Errorf("%+v", got)
	}
	if got, err := Difference(is, is); err != nil || len(got) != 0 {
		t.Errorf("a record differs from itself: %+v %v", got, err)
	}
	broken := &Source{Lines: func(func(*Line) error) error { return fmt.Errorf("the file ends") }}
	for _, x := range [][2]*Source{{broken, is}, {is, broken}} {
		if _, err := Difference(x[0], x[1]); err == nil || err.Error() != "the file ends" {
			t.Error(err)
		}
	}
}

// TestSays: what trials and reviews showed, as an auditor reads it.
func TestSays(t *testing.T) {
	tried := Tried{System: "files", Last: "2026-11-30T09:05:07Z", Admitted: 4, Refused: 3, Nothing: 1}
	if got := tried.Says(); got != "4 admitted, 3 refused, 1 said nothing, the last on 2026-11-30 09:05Z" {
		t.Error(got)
	}
	tried.Differs, tried.Contradictions = 2, 1
	if got := tried.Says(); got != "4 admitted, 3 refused, 1 said nothing, the last on 2026-11-30 09:05Z; 2 otherwise than meant; 1 against what was read" {
		t.Error(got)
	}
	round := Reviewed{Begun: "2026-11-01T08:00:00Z", Lines: 9, Answers: map[string]int{"keep": 5, "end": 4}}
	if got := round.Stands(); got != "begun 2026-11-01 08:00Z, 9 lines: 4 end, 5 keep; still open" {
		t.Error(got)
	}
	round.Ended = "2026-11-20"
	if got := round.Stands(); got != "begun 2026-11-01 08:00Z, 9 lines: 4 end, 5 keep; ended 2026-11-20" {
		t.Error(got)
	}
}
