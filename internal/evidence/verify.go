package evidence

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"

	"github.com/go-jose/go-jose/v4"

	"wexillum.example/internal/statement"
)

// Check is one thing that was verified.
type Check struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Says string `json:"says"`
}

// Verify verifies an archive: what every part is against what the manifest states, the names, the signature, and the key against
// its history. trusted are thumbprints that are known to be the organisation's; with none, the record's own are told. entry, where
// not nil, is asked for what the journal holds of the record.
func Verify(r io.ReaderAt, size int64, trusted []string, entry func(record string) (*Entry, error)) (*Manifest, []Check, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, nil, fmt.Errorf("it is no archive of a record: %w", err)
	}
	read := func(name string) ([]byte, error) {
		f, err := z.Open(name)
		if err != nil {
			return nil, fmt.Errorf("%s is missing", name)
		}
		defer f.Close()
		return io.ReadAll(io.LimitReader(f, 64<<20))
	}
	jws, err := read(ManifestFile)
	if err != nil {
		return nil, nil, err
	}
	m, kid, err := Manifested(string(jws))
	if err != nil {
		return nil, nil, err
	}
	var checks []Check
	check := func(what string, ok bool, says string, args ...any) {
		checks = append(checks, Check{what, ok, fmt.Sprintf(says, args...)})
	}
	for _, p := range m.Parts {
		f, err := z.Open(p.Name)
		if err != nil {
			check(p.Name, false, "it is missing")
			continue
		}
		got, gone, err := partOf(p.Name, f)
		f.Close()
		switch {
		case err != nil:
			check(p.Name, false, "%v", err)
		case got.SHA256 != p.SHA256 || got.Lines != p.Lines:
			check(p.Name, false, "it is not what was signed: %d lines, and %d were written", got.Lines, p.Lines)
		case gone > 0:
			check(p.Name, true, "%d lines, as they were signed; %d of the names were forgotten", p.Lines, gone)
		default:
			check(p.Name, true, "%d lines, as they were signed", p.Lines)
		}
	}
	keys, err := readKeys(read)
	if err != nil {
		check("signature", false, "%v", err)
		return m, checks, nil
	}
	verifyKey(m, string(jws), kid, keys, trusted, read, check)
	verifySeal(m, keys, trusted, read, check)
	if entry != nil {
		e, err := entry(m.Record)
		switch {
		case err != nil:
			check("journal", false, "%v", err)
		case e.Digest != Digest(string(jws)):
			check("journal", false, "the journal holds another manifest of this record")
		default:
			check("journal", true, "change %d of the journal holds this manifest", e.Change)
		}
	}
	return m, checks, nil
}

// partOf finds what a part is, and how many names in it are gone.
func partOf(name string, f io.Reader) (p Part, gone int, err error) {
	p.Name = name
	if name != NamesFile {
		sum := sha256.New()
		r := csv.NewReader(io.TeeReader(f, sum))
		r.ReuseRecord = true
		for {
			if _, err := r.Read(); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				return p, 0, err
			}
			p.Lines++
		}
		p.Lines-- // the first names the columns
		p.SHA256 = hex.EncodeToString(sum.Sum(nil))
		return p, 0, nil
	}
	r := csv.NewReader(f)
	names := NewNames()
	for first := true; ; first = false {
		x, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return p, 0, err
		}
		if first {
			continue
		}
		n := Name{Digest: x[1], Salt: x[2], Name: x[3]}
		if n.Party, err = strconv.Atoi(x[0]); err != nil {
			return p, 0, err
		}
		switch {
		case n.Name == "" && n.Salt == "":
			gone++
		case n.digest() != n.Digest:
			return p, 0, fmt.Errorf("the name of party %d is not the one that was signed", n.Party)
		}
		names.Add(&n)
	}
	p = names.Done()
	return p, gone, nil
}

func readKeys(read func(string) ([]byte, error)) (keys []Key, err error) {
	text, err := read(KeysFile)
	if err == nil {
		err = json.Unmarshal(text, &keys)
	}
	return
}

// verifySeal verifies the files that came after the manifest.
func verifySeal(m *Manifest, keys []Key, trusted []string, read func(string) ([]byte, error), check func(string, bool, string, ...any)) {
	const what = "archive"
	jws, err := read(SealFile)
	if err != nil {
		check(what, false, "%v", err)
		return
	}
	sig, err := jose.ParseSignedCompact(string(jws), statement.Algorithms)
	if err != nil {
		check(what, false, "its seal cannot be read: %v", err)
		return
	}
	kid := sig.Signatures[0].Header.KeyID
	i := slices.IndexFunc(keys, func(k Key) bool { return k.Thumbprint == kid && len(k.Key) > 0 })
	var public jose.JSONWebKey
	if i < 0 || json.Unmarshal(keys[i].Key, &public) != nil {
		check(what, false, "the key %q that sealed it is not with it", kid)
		return
	}
	payload, err := sig.Verify(public)
	var s Seal
	if is, terr := statement.Thumbprint(&public); err != nil || terr != nil || is != kid || json.Unmarshal(payload, &s) != nil ||
		s.Record != m.Record {
		check(what, false, "its seal does not hold")
		return
	}
	for _, name := range []string{KeysFile, JournalFile, SheetFile} {
		b, err := read(name)
		if err != nil || DigestOf(b) != s.Files[name] {
			check(what, false, "%s is not as it was when the archive was written", name)
			return
		}
	}
	if len(trusted) > 0 && !slices.Contains(trusted, kid) {
		check(what, false, "its seal holds, by the key %s, which is none of those that are trusted; name it with --key, too, if it is theirs",
			kid)
		return
	}
	check(what, true, "its keys, journal entry and sheet are as they were when it was written")
}

// verifyKey verifies the signature by the key that was in force when the journal took the record in.
func verifyKey(m *Manifest, jws, kid string, keys []Key, trusted []string, read func(string) ([]byte, error),
	check func(string, bool, string, ...any)) {
	i := slices.IndexFunc(keys, func(k Key) bool { return k.Thumbprint == kid && len(k.Key) > 0 })
	if i < 0 {
		check("signature", false, "the key %q that signed it is not with it", kid)
		return
	}
	k := keys[i]
	var public jose.JSONWebKey
	if err := json.Unmarshal(k.Key, &public); err != nil {
		check("signature", false, "the key cannot be read: %v", err)
		return
	}
	if is, err := statement.Thumbprint(&public); err != nil || is != k.Thumbprint {
		check("signature", false, "the key is not the one that it is called")
		return
	}
	sig, err := jose.ParseSignedCompact(jws, statement.Algorithms)
	if err == nil {
		_, err = sig.Verify(public)
	}
	if err != nil {
		check("signature", false, "it does not hold: %v", err)
		return
	}
	var e Entry
	if text, err := read(JournalFile); err == nil {
		_ = json.Unmarshal(text, &e)
	}
	state := ""
	for _, h := range k.History {
		if h.Change <= e.Change {
			state = h.State
		}
	}
	switch {
	case e.Digest != Digest(jws):
		check("signature", false, "the journal entry that is with it is of another manifest")
	case state != "current":
		check("signature", false, "the key was not the one that signs when the journal took it in (change %d): it was %q", e.Change, state)
	case len(trusted) > 0 && !slices.Contains(trusted, kid):
		check("signature", false, "it holds, by the key %s, which is none of those that are trusted", kid)
	case len(trusted) > 0:
		check("signature", true, "it holds, by the key %s, which is trusted", kid)
	default:
		check("signature", true, "it holds, by the key %s of %s; compare it with one that they told you by another way", kid, m.Organisation)
	}
}
