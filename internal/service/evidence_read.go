package service

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/go-jose/go-jose/v4"

	"wexillum.example/internal/core/counted"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/evidence"
	"wexillum.example/internal/report"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
)

// EvidenceOf finds a record of reach.
func (s *Service) EvidenceOf(ctx context.Context, id string) (*Evidence, error) {
	doc, err := s.store.Record(ctx, evidenceKind, id)
	if err == nil && doc == nil {
		err = fmt.Errorf("%w: there is no record of reach %q", ErrNotFound, id)
	}
	if err != nil {
		return nil, err
	}
	e, err := evidenceFrom(doc)
	if err != nil {
		return nil, err
	}
	entries, err := s.store.Journal(ctx, store.JournalQuery{Kind: evidenceKind, ID: id, Limit: 1000})
	for i := range entries { // the first of them took it in
		e.Change, e.At = entries[i].Seq, entries[i].At
	}
	return e, err
}

// AllEvidence lists the records of reach, the newest first.
func (s *Service) AllEvidence(ctx context.Context) ([]Evidence, error) {
	out := []Evidence{}
	err := s.store.Records(ctx, evidenceKind, "", func(_ string, doc []byte) error {
		e, err := evidenceFrom(doc)
		if err == nil {
			out = append(out, *e)
		}
		return err
	})
	slices.SortFunc(out, func(a, b Evidence) int { return strings.Compare(b.Made, a.Made) })
	return out, err
}

// SignOffEvidence is somebody's word that they have looked at a record; they prove again who they are.
func (s *Service) SignOffEvidence(ctx context.Context, who Who, id, password, note string) (*Evidence, error) {
	a, err := s.store.Account(ctx, who.Name)
	if err != nil {
		return nil, err
	}
	if a.Password == "" || !passwordIs(a.Password, password) {
		return nil, &Invalid{"password", "…", "it is not the password of " + who.Name + "; signing off asks for it again"}
	}
	err = s.change(ctx, who.Name, cmp.Or(strings.TrimSpace(note), "signed off"), func(_ *State, t *store.Tx) error {
		doc, err := t.Record(evidenceKind, id)
		if err != nil {
			return err
		}
		if doc == nil {
			return fmt.Errorf("%w: there is no record of reach %q", ErrNotFound, id)
		}
		e, err := evidenceFrom(doc)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(e.SignOff, func(x SignOff) bool { return x.By == who.Name }) {
			return fmt.Errorf("%w: %s signed it off already", ErrConflict, who.Name)
		}
		e.SignOff = append(e.SignOff, SignOff{By: who.Name, At: s.Now().String(), Note: strings.TrimSpace(note)})
		text, err := json.Marshal(e)
		if err == nil {
			_, err = t.PutRecord(evidenceKind, id, text)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return s.EvidenceOf(ctx, id)
}

// EvidenceLines reads the lines of a record, and whom their numbers stand for.
func (s *Service) EvidenceLines(ctx context.Context, id string) *evidence.Source {
	names := map[int]string{}
	err := s.store.EvidenceNames(ctx, id, func(n *store.EvidenceName) error { names[n.Party] = n.Name; return nil })
	return &evidence.Source{
		Name: func(n int) string {
			if names[n] == "" {
				return fmt.Sprintf("party %d, forgotten", n)
			}
			return names[n]
		},
		Lines: func(fn func(*evidence.Line) error) error {
			if err != nil {
				return err
			}
			r, w := io.Pipe()
			go func() {
				w.CloseWithError(s.store.EvidencePieces(ctx, id, func(b []byte) error { _, err := w.Write(b); return err }))
			}()
			defer r.Close()
			return evidence.EachLine(r, fn)
		},
	}
}

// signingHistory is what each key was from which journal entry on, with the public half of the one that signed a record.
func (s *Service) signingHistory(ctx context.Context, e *Evidence) ([]evidence.Key, error) {
	var out []evidence.Key
	entries, err := s.store.Journal(ctx, store.JournalQuery{Kind: "signing_key", Limit: 10000})
	if err != nil {
		return nil, err
	}
	slices.Reverse(entries)
	for i := range entries {
		entry := &entries[i]
		k := slices.IndexFunc(out, func(x evidence.Key) bool { return x.Thumbprint == entry.ID })
		if k < 0 {
			k = len(out)
			out = append(out, evidence.Key{Thumbprint: entry.ID})
		}
		var is struct{ State string }
		if entry.Now != nil {
			if err := json.Unmarshal(entry.Now, &is); err != nil {
				return nil, err
			}
		}
		out[k].History = append(out[k].History, evidence.KeyState{Change: entry.Seq, At: moment.Of(entry.At).String(), State: is.State})
	}
	_, kid, err := evidence.Manifested(e.JWS)
	if err != nil {
		return nil, err
	}
	now, err := s.currentKey(ctx)
	if err != nil {
		return nil, err
	}
	for i := range out {
		switch out[i].Thumbprint {
		case kid:
			out[i].Key = e.Key
		case now.ID: // it seals what is written now
			if out[i].Key, err = publicHalf(now.Private); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// publicHalf is the public half of a private JWK.
func publicHalf(private []byte) (json.RawMessage, error) {
	set, err := statement.PublicKeys(private)
	if err != nil {
		return nil, err
	}
	var x jose.JSONWebKeySet
	if err := json.Unmarshal(set, &x); err != nil {
		return nil, err
	}
	return json.Marshal(x.Keys[0])
}

// WriteEvidence writes a record as an archive that can be verified without us.
func (s *Service) WriteEvidence(ctx context.Context, e *Evidence, w io.Writer) error {
	z := zip.NewWriter(w)
	file := func(name string, write func(io.Writer) error) error {
		f, err := z.Create(name)
		if err == nil {
			err = write(f)
		}
		return err
	}
	keys, err := s.signingHistory(ctx, e)
	if err != nil {
		return err
	}
	beside := map[string][]byte{} // what comes after the manifest: small, and sealed as it is written
	for name, x := range map[string]any{evidence.KeysFile: keys,
		evidence.JournalFile: evidence.Entry{Change: e.Change, At: moment.Of(e.At).String(), Digest: e.Digest}} {
		if beside[name], err = json.MarshalIndent(x, "", "  "); err != nil {
			return err
		}
	}
	r, err := s.EvidenceSheet(ctx, e)
	if err != nil {
		return err
	}
	var page bytes.Buffer
	if err := r.HTML(&page); err != nil {
		return err
	}
	beside[evidence.SheetFile] = page.Bytes()
	seal := evidence.Seal{Record: e.ID, Files: map[string]string{}}
	for name, b := range beside {
		seal.Files[name] = evidence.DigestOf(b)
	}
	current, err := s.currentKey(ctx)
	if err != nil {
		return err
	}
	sealed, err := statement.SignAs(evidence.SealType, seal, current.Private)
	if err != nil {
		return err
	}
	bytesOf := func(name string, b []byte) error {
		return file(name, func(f io.Writer) error { _, err := f.Write(b); return err })
	}
	return errors.Join(
		bytesOf(evidence.ManifestFile, []byte(e.JWS)),
		file(evidence.LinesFile, func(f io.Writer) error {
			return s.store.EvidencePieces(ctx, e.ID, func(b []byte) error { _, err := f.Write(b); return err })
		}),
		file(evidence.NamesFile, func(f io.Writer) error {
			c := csv.NewWriter(f)
			if err := c.Write(evidence.NameColumns); err != nil {
				return err
			}
			err := s.store.EvidenceNames(ctx, e.ID, func(n *store.EvidenceName) error {
				return c.Write([]string{strconv.Itoa(n.Party), n.Digest, n.Salt, n.Name})
			})
			c.Flush()
			return errors.Join(err, c.Error())
		}),
		bytesOf(evidence.KeysFile, beside[evidence.KeysFile]),
		bytesOf(evidence.JournalFile, beside[evidence.JournalFile]),
		bytesOf(evidence.SheetFile, beside[evidence.SheetFile]),
		bytesOf(evidence.SealFile, []byte(sealed)),
		z.Close(),
	)
}

// currentKey is the key that signs.
func (s *Service) currentKey(ctx context.Context) (*store.SigningKey, error) {
	keys, err := s.signing(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(keys, func(k store.SigningKey) bool { return k.State == store.KeyCurrent })
	if i < 0 {
		return nil, fmt.Errorf("%w: no key signs what is told: announce one, and switch to it", ErrConflict)
	}
	return &keys[i], nil
}

// onSheet is how many lines a sheet for people shows.
const onSheet = 1000

// EvidenceSheet is a record for people: what it states, its totals and its first lines.
func (s *Service) EvidenceSheet(ctx context.Context, e *Evidence) (*report.Report, error) {
	m := e.Manifest
	r := &report.Report{
		Head: report.Head{Title: "Record of reach " + e.ID + ": " + m.Says, Organisation: m.Organisation, Revision: m.Revision, At: m.At,
			Method: m.Method, Not: slices.Clone(m.NotLookedAt)},
		Columns: []string{"who", "kind", "partner", "action", "with what", "count", "conditions"},
	}
	add := func(what, is string) { r.Summary = append(r.Summary, [2]string{what, is}) }
	add("Made", m.Made+" by "+m.By+": "+m.Why)
	add("Reach anything", counted.Of(m.Parties, "known party or link", "known parties and links")+", "+
		counted.Of(m.Newcomers, "typical newcomer", "typical newcomers"))
	add("Lines", strconv.Itoa(m.Lines))
	for _, t := range m.Totals {
		add(t.Action, counted.Of(t.Parties, "party", "parties")+", "+counted.Of(t.Pairs, "time", "times"))
	}
	for _, x := range m.Expectations {
		add("Expected", x.Says+" "+x.State)
	}
	for _, x := range m.Systems {
		add("System "+x.ID, cmp.Or(x.Read, "never read"))
	}
	for _, x := range m.Trials {
		add("Trials at "+x.System, x.Says())
	}
	for _, x := range m.Reviews {
		add("Review of "+x.Says, x.Stands())
	}
	for _, x := range e.SignOff {
		add("Signed off", x.By+", "+x.At+" "+x.Note)
	}
	for _, who := range e.Open() {
		add("To be signed off by", who)
	}
	add("SHA-256 of the signed manifest", e.Digest)
	add("Journal", fmt.Sprintf("change %d, resting on change %d with the seal %s", e.Change, m.Journal.Change, m.Journal.Seal))
	src := s.EvidenceLines(ctx, e.ID)
	n := 0
	err := src.Lines(func(l *evidence.Line) error {
		if n++; n > onSheet {
			return io.EOF
		}
		who := src.Name(l.Party)
		if l.Person != "" {
			who = "person:" + l.Person + " towards " + who
		}
		r.Rows = append(r.Rows, []string{who, l.Kind, l.Partner, l.Action, l.Resource, strconv.Itoa(l.Count),
			strings.ReplaceAll(strings.Join(l.Conditions, ", "), "_", " ")})
		return nil
	})
	if errors.Is(err, io.EOF) {
		err = nil
	}
	if m.Lines > onSheet {
		r.Not = append(r.Not, fmt.Sprintf("%d lines more, which stand in %s", m.Lines-onSheet, evidence.LinesFile))
	}
	r.Not = append(r.Not, "Copies of this sheet that were sent out keep the names of those who are forgotten later")
	return r, err
}

// VerifyEvidence verifies a record as it is kept: its parts, its signature, and what the journal took in.
func (s *Service) VerifyEvidence(ctx context.Context, id string) ([]evidence.Check, error) {
	e, err := s.EvidenceOf(ctx, id)
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp("", "wexillum-record-*.zip") // as whoever has the archive would
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := s.WriteEvidence(ctx, e, f); err != nil {
		return nil, err
	}
	size, err := f.Seek(0, io.SeekCurrent)
	if err != nil {
		return nil, err
	}
	keys, err := s.signingHistory(ctx, e)
	if err != nil {
		return nil, err
	}
	var ours []string
	for _, k := range keys {
		ours = append(ours, k.Thumbprint)
	}
	_, checks, err := evidence.Verify(f, size, ours, func(string) (*evidence.Entry, error) { return s.journaledEvidence(ctx, id) })
	if err != nil {
		return nil, err
	}
	n, whole, err := s.store.VerifyJournal(ctx)
	if err != nil {
		return nil, err
	}
	if whole != nil {
		checks = append(checks, evidence.Check{What: "journal", Says: "the journal was altered: " + whole.Reason})
	}
	if whole == nil {
		seal, err := s.store.SealAt(ctx, e.Manifest.Journal.Change)
		ok := err == nil && seal == e.Manifest.Journal.Seal
		says := fmt.Sprintf("all %d entries are as they were written, and the seal of change %d is the one in the record", n,
			e.Manifest.Journal.Change)
		if !ok {
			says = fmt.Sprintf("the seal of change %d is not the one in the record: the journal was written anew", e.Manifest.Journal.Change)
		}
		checks = append(checks, evidence.Check{What: "seal", OK: ok, Says: says})
	}
	return checks, nil
}

// journaledEvidence is what the journal took in of a record.
func (s *Service) journaledEvidence(ctx context.Context, id string) (*evidence.Entry, error) {
	entries, err := s.store.Journal(ctx, store.JournalQuery{Kind: evidenceKind, ID: id, Limit: 1000})
	if err != nil {
		return nil, err
	}
	if len(entries) == 0 {
		return nil, errors.New("the journal knows no such record")
	}
	first := &entries[len(entries)-1]
	var e Evidence
	if err := json.Unmarshal(first.Now, &e); err != nil {
		return nil, err
	}
	return &evidence.Entry{Change: first.Seq, At: moment.Of(first.At).String(), Digest: evidence.Digest(e.JWS)}, nil
}
