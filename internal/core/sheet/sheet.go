// Package sheet writes and reads CSV (RFC 4180) that people open in
// spreadsheets: what a spreadsheet would take for a formula gets an apostrophe
// before it, and loses it again when the list comes back.
//
// Names and reasons in a list come from outside. A cell that begins with an
// equals sign would be computed by whoever opens the list, on their machine.
// Tame and Plain are inverse of each other: whatever goes out comes back as it
// was.
package sheet

import (
	"encoding/csv"
	"io"
	"strings"
)

// formula holds what a formula begins with, in wide letters too. Spreadsheets
// take each of these at the beginning of a cell for a formula, and some would
// run it.
const formula = "=+-@\t\r\n＝＋－＠"

// begins reports whether a cell begins as a formula does, apostrophes before it
// aside. Control characters count because programs skip them.
func begins(cell string) bool {
	for _, c := range strings.TrimLeft(cell, "'") {
		return strings.ContainsRune(formula, c)
	}
	return false
}

// Tame returns a cell as no spreadsheet computes it. A cell that already has
// apostrophes before a formula gets one more, so that Plain gives back exactly
// what there was.
func Tame(cell string) string {
	if begins(cell) {
		return "'" + cell
	}
	return cell
}

// Plain returns what a tamed cell was. Of any other cell it returns the cell.
func Plain(cell string) string {
	if strings.HasPrefix(cell, "'") && begins(cell) {
		return cell[1:]
	}
	return cell
}

// Writer writes tamed cells, in lines that end as RFC 4180 §2 has it.
type Writer struct{ w *csv.Writer }

// NewWriter returns a writer.
func NewWriter(w io.Writer) *Writer {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	return &Writer{c}
}

// Write writes a line.
func (w *Writer) Write(cells []string) error {
	out := make([]string, len(cells))
	for i, c := range cells {
		out[i] = Tame(c)
	}
	return w.w.Write(out)
}

// Flush writes what is held back; Error tells whether that, or a line before,
// failed.
func (w *Writer) Flush() { w.w.Flush() }

// Error returns what failed.
func (w *Writer) Error() error { return w.w.Error() }

// Reader reads cells as they were before they were tamed. It is a csv.Reader
// otherwise.
type Reader struct{ *csv.Reader }

// NewReader returns a reader whose lines may differ in length. What is missing
// at the end of a line is empty to whoever reads columns by name.
func NewReader(r io.Reader) *Reader {
	c := csv.NewReader(r)
	c.FieldsPerRecord = -1
	return &Reader{c}
}

// Read reads a line.
func (r *Reader) Read() ([]string, error) {
	cells, err := r.Reader.Read()
	for i := range cells {
		cells[i] = Plain(cells[i])
	}
	return cells, err
}
