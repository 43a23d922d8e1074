// Package evidence is the form of a record of reach (practice §5): what somebody outside could do at a moment, as parts whose
// digests a signed manifest states. It can be verified without the service that made it.
package evidence

import (
	"archive/zip"
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/go-jose/go-jose/v4"

	"wexillum.example/internal/statement"
)

// Type is the media type of a signed manifest, without application/ (RFC 7515 §4.1.9).
const Type = "wexillum-record"

// Names of the files of a record.
const (
	ManifestFile = "manifest.jws"
	LinesFile    = "lines.csv"
	NamesFile    = "names.csv"
	KeysFile     = "keys.json"
	JournalFile  = "journal.json"
	SheetFile    = "sheet.html"
	SealFile     = "seal.jws"
)

// Manifest states what a record says, and the digests of its parts. It is signed as it stands.
type Manifest struct {
	Record       string     `json:"record"`
	Version      int        `json:"version"`
	Organisation string     `json:"organisation"`
	Says         string     `json:"says"` // what it is about, in a sentence
	Party        string     `json:"party"`
	Action       string     `json:"action"`
	Resource     string     `json:"resource"`
	At           string     `json:"at"` // the moment that it is about
	Made         string     `json:"made"`
	By           string     `json:"by"`
	Why          string     `json:"why"`
	Revision     uint64     `json:"revision"`
	Journal      Sealed     `json:"journal"` // how far what it rests on was written
	Method       string     `json:"method"`
	Parties      int        `json:"parties"`   // known ones and links that reach anything
	Newcomers    int        `json:"newcomers"` // typical newcomers that do
	Lines        int        `json:"lines"`
	Totals       []Total    `json:"totals"`
	Systems      []System   `json:"systems"`
	NotLookedAt  []string   `json:"not_looked_at"`
	Trials       []Tried    `json:"trials,omitempty"`
	Reviews      []Reviewed `json:"reviews,omitempty"`
	Expectations []Stands   `json:"expectations"`
	SignOff      []string   `json:"sign_off"` // who must sign it off
	Parts        []Part     `json:"parts"`
}

// Sealed is a journal entry and its seal, in hexadecimal digits.
type Sealed struct {
	Change uint64 `json:"change"`
	Seal   string `json:"seal"`
}

// Total counts an action: the parties that may, and pairs of them and a thing.
type Total struct {
	Action  string `json:"action"`
	Parties int    `json:"parties"`
	Pairs   int    `json:"pairs"`
}

// System says when a system was read last.
type System struct {
	ID   string `json:"id"`
	Read string `json:"read,omitempty"` // empty where it never was
}

// Tried says what trials at a system showed: of each question the last one, of the month before.
type Tried struct {
	System         string `json:"system"`
	Last           string `json:"last"` // the moment of the last of them
	Admitted       int    `json:"admitted"`
	Refused        int    `json:"refused"`
	Nothing        int    `json:"nothing"`        // that said nothing: no answer, too early, or not tried
	Differs        int    `json:"differs"`        // admitted where it is meant to be refused, or the other way round
	Contradictions int    `json:"contradictions"` // that contradict what was read
}

// Reviewed is a round of review that was open, or ended in the year before, with how often each answer was given.
type Reviewed struct {
	ID      string         `json:"id"`
	Says    string         `json:"says"` // what it asked about
	Begun   string         `json:"begun"`
	Ended   string         `json:"ended,omitempty"` // empty while it is open
	Lines   int            `json:"lines"`
	Answers map[string]int `json:"answers"`
	Digest  string         `json:"digest,omitempty"` // of its lines at its end, SHA-256
}

// minute writes a moment as people read it.
func minute(at string) string {
	if len(at) < len("2006-01-02T15:04") {
		return at
	}
	return strings.Replace(at[:len("2006-01-02T15:04")], "T", " ", 1) + "Z"
}

// Says says it in a sentence.
func (x *Tried) Says() string {
	out := fmt.Sprintf("%d admitted, %d refused, %d said nothing, the last on %s", x.Admitted, x.Refused, x.Nothing, minute(x.Last))
	if x.Differs > 0 {
		out += fmt.Sprintf("; %d otherwise than meant", x.Differs)
	}
	if x.Contradictions > 0 {
		out += fmt.Sprintf("; %d against what was read", x.Contradictions)
	}
	return out
}

// Stands says how far it came.
func (x *Reviewed) Stands() string {
	var answers []string
	for _, a := range slices.Sorted(maps.Keys(x.Answers)) {
		answers = append(answers, fmt.Sprintf("%d %s", x.Answers[a], a))
	}
	out := fmt.Sprintf("begun %s, %d lines: %s", minute(x.Begun), x.Lines, strings.Join(answers, ", "))
	if x.Ended != "" {
		return out + "; ended " + minute(x.Ended)
	}
	return out + "; still open"
}

// Stands is how an expectation stood.
type Stands struct {
	ID    string `json:"id"`
	Says  string `json:"says"`
	State string `json:"state"`
	Count int    `json:"count,omitempty"`
}

// Part is a file of a record. Of the names the digest is of numbers and digests alone, so that a name can be taken out.
type Part struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Bytes  int64  `json:"bytes,omitempty"`
	Lines  int    `json:"lines"`
}

// Key is a public key and when it was the one that signs.
type Key struct {
	Thumbprint string          `json:"thumbprint"` // RFC 7638
	Key        json.RawMessage `json:"key,omitempty"`
	History    []KeyState      `json:"history"`
}

// KeyState is what a key was from a journal entry on.
type KeyState struct {
	Change uint64 `json:"change"`
	At     string `json:"at"`
	State  string `json:"state"` // current, announced, retired; empty where it was removed
}

// SealType is the media type of what seals the files of an archive that came after the manifest.
const SealType = Type + "-seal"

// Seal holds the digests of the files of an archive that are no parts of the record: its keys, its journal entry, its sheet. It is signed
// when the archive is written, with the key that signs then.
type Seal struct {
	Record string            `json:"record"`
	Files  map[string]string `json:"files"` // SHA-256 by name
}

// DigestOf is that of a file.
func DigestOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Entry is the journal entry that holds a record.
type Entry struct {
	Change uint64 `json:"change"`
	At     string `json:"at"`
	Digest string `json:"digest"` // SHA-256 of the manifest as it is signed
}

// Columns of the lines.
var Columns = []string{"party", "kind", "partner", "newcomer", "person", "action", "resource", "count", "conditions"}

// NameColumns are those of the names.
var NameColumns = []string{"party", "digest", "salt", "name"}

// Line is one line: what a party may do with a thing, or with count of them that are alike.
type Line struct {
	Party      int
	Kind       string
	Partner    string
	Newcomer   bool
	Person     string // of ours, who does it
	Action     string
	Resource   string
	Count      int
	Conditions []string
}

func (l *Line) fields() []string {
	return []string{strconv.Itoa(l.Party), l.Kind, l.Partner, map[bool]string{true: "yes", false: "no"}[l.Newcomer], l.Person, l.Action,
		l.Resource, strconv.Itoa(l.Count), strings.Join(l.Conditions, " ")}
}

// ReadLine reads a line as it is written.
func ReadLine(f []string) (l Line, err error) {
	if len(f) != len(Columns) {
		return l, fmt.Errorf("a line has %d columns, and %d are written", len(Columns), len(f))
	}
	l = Line{Kind: f[1], Partner: f[2], Newcomer: f[3] == "yes", Person: f[4], Action: f[5], Resource: f[6], Conditions: strings.Fields(f[8])}
	if l.Party, err = strconv.Atoi(f[0]); err == nil {
		l.Count, err = strconv.Atoi(f[7])
	}
	return
}

// Writer writes lines and takes their digest.
type Writer struct {
	csv   *csv.Writer
	sum   hash.Hash
	bytes int64
	lines int
}

// NewWriter begins lines.
func NewWriter(w io.Writer) (*Writer, error) {
	out := &Writer{sum: sha256.New()}
	out.csv = csv.NewWriter(io.MultiWriter(w, out.sum, (*counter)(&out.bytes)))
	return out, out.csv.Write(Columns)
}

type counter int64

func (c *counter) Write(b []byte) (int, error) { *c += counter(len(b)); return len(b), nil }

// Add writes a line.
func (w *Writer) Add(l *Line) error {
	w.lines++
	return w.csv.Write(l.fields())
}

// Done ends the lines and says what they are.
func (w *Writer) Done() (Part, error) {
	w.csv.Flush()
	return Part{LinesFile, hex.EncodeToString(w.sum.Sum(nil)), w.bytes, w.lines}, w.csv.Error()
}

// Name is a party's number and who it is; salt and name are empty once they are forgotten.
type Name struct {
	Party              int
	Digest, Salt, Name string
}

// NewName salts a name.
func NewName(party int, name string) Name {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	n := Name{Party: party, Salt: hex.EncodeToString(salt), Name: name}
	n.Digest = n.digest()
	return n
}

func (n *Name) digest() string {
	sum := sha256.Sum256([]byte(n.Salt + " " + n.Name))
	return hex.EncodeToString(sum[:])
}

// Names takes the digest of numbers and digests, in the order in which they come.
type Names struct {
	sum hash.Hash
	n   int
}

// NewNames begins names.
func NewNames() *Names { return &Names{sum: sha256.New()} }

// Add takes a name.
func (x *Names) Add(n *Name) {
	x.n++
	fmt.Fprintf(x.sum, "%d,%s\n", n.Party, n.Digest)
}

// Done says what they are.
func (x *Names) Done() Part {
	return Part{Name: NamesFile, SHA256: hex.EncodeToString(x.sum.Sum(nil)), Lines: x.n}
}

// Digest is that of a signed manifest, as the journal keeps it.
func Digest(jws string) string {
	sum := sha256.Sum256([]byte(jws))
	return hex.EncodeToString(sum[:])
}

// Manifested reads a signed manifest without verifying it.
func Manifested(jws string) (*Manifest, string, error) {
	sig, err := jose.ParseSignedCompact(jws, statement.Algorithms)
	if err != nil {
		return nil, "", fmt.Errorf("the manifest is no signed manifest: %w", err)
	}
	var m Manifest
	if err := json.Unmarshal(sig.UnsafePayloadWithoutVerification(), &m); err != nil {
		return nil, "", fmt.Errorf("the manifest cannot be read: %w", err)
	}
	kid := ""
	if len(sig.Signatures) == 1 {
		kid = sig.Signatures[0].Header.KeyID
	}
	return &m, kid, nil
}

// Differs is one line of what is otherwise in a second record.
type Differs struct {
	Change   string `json:"change"` // gained, lost
	Party    string `json:"party"`
	Action   string `json:"action"`
	Resource string `json:"resource"`
	Was      string `json:"was,omitempty"` // of a yes under other conditions, or of a number
	Becomes  string `json:"becomes,omitempty"`
}

// Source is a record whose lines are read one after the other.
type Source struct {
	Lines func(fn func(*Line) error) error
	Name  func(party int) string // who a party is; its number where that was forgotten
}

// Difference compares two records, line by line, and calls found for what is otherwise, sorted.
func Difference(was, is *Source) ([]Differs, error) {
	type said struct {
		count      int
		conditions string
	}
	collect := func(s *Source) (map[[4]string]said, error) {
		out := map[[4]string]said{}
		return out, s.Lines(func(l *Line) error {
			k := [4]string{s.Name(l.Party), l.Person, l.Action, l.Resource}
			x := out[k]
			x.count += l.Count
			x.conditions = strings.Join(l.Conditions, " ")
			out[k] = x
			return nil
		})
	}
	before, err := collect(was)
	if err != nil {
		return nil, err
	}
	after, err := collect(is)
	if err != nil {
		return nil, err
	}
	out := []Differs{}
	add := func(k [4]string, change, a, b string) {
		who := k[0]
		if k[1] != "" {
			who = "person:" + k[1] + " towards " + k[0]
		}
		out = append(out, Differs{change, who, k[2], k[3], a, b})
	}
	for k, x := range after {
		y, had := before[k]
		switch {
		case !had:
			add(k, "gained", "", "")
		case x.conditions != y.conditions:
			add(k, "otherwise", y.conditions, x.conditions)
		case x.count != y.count:
			add(k, map[bool]string{true: "gained", false: "lost"}[x.count > y.count], strconv.Itoa(y.count), strconv.Itoa(x.count))
		}
	}
	for k := range before {
		if _, has := after[k]; !has {
			add(k, "lost", "", "")
		}
	}
	slices.SortFunc(out, func(a, b Differs) int {
		return strings.Compare(a.Party+"\x00"+a.Action+"\x00"+a.Resource+a.Change, b.Party+"\x00"+b.Action+"\x00"+b.Resource+b.Change)
	})
	return out, nil
}

// Opened reads an archive as a source of lines.
func Opened(r io.ReaderAt, size int64) (*Source, *Manifest, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, nil, fmt.Errorf("it is no archive of a record: %w", err)
	}
	all := func(name string) ([]byte, error) {
		f, err := z.Open(name)
		if err != nil {
			return nil, fmt.Errorf("%s is missing", name)
		}
		defer f.Close()
		return io.ReadAll(f)
	}
	jws, err := all(ManifestFile)
	if err != nil {
		return nil, nil, err
	}
	m, _, err := Manifested(string(jws))
	if err != nil {
		return nil, nil, err
	}
	text, err := all(NamesFile)
	if err != nil {
		return nil, nil, err
	}
	names := map[int]string{}
	rows, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
	if err != nil {
		return nil, nil, err
	}
	for _, x := range rows[min(1, len(rows)):] {
		if n, err := strconv.Atoi(x[0]); err == nil {
			names[n] = x[3]
		}
	}
	return &Source{
		Lines: func(fn func(*Line) error) error {
			f, err := z.Open(LinesFile)
			if err != nil {
				return err
			}
			defer f.Close()
			return EachLine(f, fn)
		},
		Name: func(n int) string {
			if names[n] == "" {
				return fmt.Sprintf("party %d, forgotten", n)
			}
			return names[n]
		},
	}, m, nil
}

// EachLine reads lines as they are written.
func EachLine(f io.Reader, fn func(*Line) error) error {
	r := csv.NewReader(f)
	for first := true; ; first = false {
		x, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if first {
			continue
		}
		l, err := ReadLine(x)
		if err == nil {
			err = fn(&l)
		}
		if err != nil {
			return err
		}
	}
}
