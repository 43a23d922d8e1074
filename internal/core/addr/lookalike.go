package addr

import (
	"strings"

	"golang.org/x/net/publicsuffix"
)

// confusables maps characters to the one they are taken for in common
// typefaces:
//
// a small part of Unicode's data for UTS #39 §4, for Latin, Greek and Cyrillic.
//
// Pairs such as rn for m stand first because the replacer tries its entries in
// order. The data is for warning a person who enters a partner, and no rule
// rests on it: a pair that is missing leaves out a warning and opens nothing.
var confusables = strings.NewReplacer(
	"rn", "m", "vv", "w", "cl", "d", "0", "o", "1", "l", "i", "l", "ı", "l", "í", "l", "ì", "l", "î", "l", "ï", "l", "|", "l",
	"а", "a", "α", "a", "á", "a", "à", "a", "â", "a", "ä", "a", "ã", "a", "å", "a", "ɑ", "a",
	"в", "b", "ь", "b", "с", "c", "ç", "c", "ϲ", "c", "ԁ", "d", "đ", "d",
	"е", "e", "ё", "e", "é", "e", "è", "e", "ê", "e", "ë", "e", "ε", "e", "ɡ", "g", "ğ", "g", "һ", "h", "н", "h",
	"і", "l", "ї", "l", "ι", "l", "ј", "j", "к", "k", "κ", "k", "ӏ", "l", "ł", "l", "м", "m", "п", "n", "ñ", "n", "η", "n", "ո", "n",
	"о", "o", "ο", "o", "ó", "o", "ò", "o", "ô", "o", "ö", "o", "õ", "o", "ø", "o", "σ", "o", "օ", "o",
	"р", "p", "ρ", "p", "ԛ", "q", "г", "r", "ѕ", "s", "ś", "s", "š", "s", "т", "t", "τ", "t", "υ", "u", "ú", "u", "ü", "u", "ս", "u",
	"ѵ", "v", "ν", "v", "ԝ", "w", "ω", "w", "х", "x", "χ", "x", "у", "y", "ý", "y", "ÿ", "y", "γ", "y", "ż", "z", "ž", "z",
)

// Skeleton returns d as the eye may take it: confusable characters replaced by
// the one they resemble. Two domains with one skeleton can be mistaken for each
// other (UTS #39 §4).
func (d Domain) Skeleton() string { return confusables.Replace(d.Unicode()) }

// LookAlike reports whether b could be taken for a: they differ, neither lies
// below the other, and their skeletons are the same or, in the part that is
// registered, one edit apart where that part has at least five characters.
//
// Below five characters one edit apart says nothing: half of all short names
// are. The part that is registered is what somebody can buy; a lower label is
// given by whoever owns it.
func LookAlike(a, b Domain) bool {
	if a == b || a.Under(b) || b.Under(a) {
		return false
	}
	if a.Skeleton() == b.Skeleton() {
		return true
	}
	ra, rb := registered(a), registered(b)
	if ra == rb || len(ra.name) < 5 || len(rb.name) < 5 {
		return false
	}
	la, sa, _ := strings.Cut(ra.name, ".")
	lb, sb, _ := strings.Cut(rb.name, ".")
	return sa == sb && len(la) >= 5 && len(lb) >= 5 && oneEdit(la, lb)
}

// Neighbours returns keys by which look-alikes find each other: any two domains
// for which LookAlike holds share one.
//
// With them a table of n domains finds its look-alikes in n look-ups of some
// twenty keys each in place of n² comparisons. Not all that share a key are
// look-alikes: LookAlike decides.
func (d Domain) Neighbours() []string {
	out := []string{"= " + d.Skeleton()}
	label, suffix, _ := strings.Cut(registered(d).name, ".")
	out = append(out, label+" "+suffix)
	// With one letter left out here or there, two labels that are one edit
	// apart give the same text.
	for i := range label {
		out = append(out, label[:i]+label[i+1:]+" "+suffix)
	}
	return out
}

// registered returns the part of d that somebody can register: the public
// suffix and one label more. A domain that is a public suffix itself stays as
// it is.
func registered(d Domain) Domain {
	if r, err := publicsuffix.EffectiveTLDPlusOne(d.name); err == nil {
		return Domain{r}
	}
	return d
}

// oneEdit reports whether one insertion, deletion, replacement or exchange of
// neighbours turns a into b.
func oneEdit(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 1 || a == b {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	// One letter was put in: behind it both go on alike.
	if len(a) < len(b) {
		return a[i:] == b[i+1:]
	}
	// Of the same length: one letter is another, or two neighbours changed
	// their places.
	return a[i+1:] == b[i+1:] || i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
}
