package addr

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/idna"
	"golang.org/x/net/publicsuffix"
)

// Lengths in octets that RFC 5321 §4.5.3.1 and RFC 1035 §2.3.4 allow.
const (
	maxLocal   = 64
	maxAddress = 254
	maxDomain  = 253
)

// profile maps and checks a name as RFC 5891 and UTS #46 want it for look-up,
// without the transitional mapping: ß and ß-like letters stay themselves.
var profile = idna.New(
	idna.MapForLookup(),
	idna.Transitional(false),
	idna.StrictDomainName(true),
	idna.ValidateLabels(true),
	idna.CheckHyphens(true),
	idna.CheckJoiners(true),
	idna.BidiRule(),
	idna.VerifyDNSLength(true),
)

// SyntaxError says why a text is no domain or no address and where. The
// position counts bytes because that is what an editor of a file and a field of
// a form can point at; Error shows it counted from one, as people count.
type SyntaxError struct {
	What   string // "domain" or "address"
	Input  string // the text as given
	Pos    int    // byte offset of the first offending byte, 0 for the whole text
	Reason string // plain words
}

// Error writes the text, what it should have been, why it is not, and where, in
// one line.
func (e *SyntaxError) Error() string {
	return fmt.Sprintf("%q is no %s: %s (at position %d)", e.Input, e.What, e.Reason, e.Pos+1)
}

// Domain is a fully qualified mail domain in normal form: lower-case A-labels
// (RFC 5890 §2.3.2.1) joined by dots, without a trailing dot, at least two
// labels. The zero value is no domain. Domains compare with ==.
type Domain struct{ name string }

// ParseDomain brings s into normal form. One trailing dot, the root of RFC 1034
// §3.1, is taken off. An IP address, a single label, an empty or over-long
// label, and whatever RFC 5891 or UTS #46 refuses is a *SyntaxError.
func ParseDomain(s string) (Domain, error) { return parseDomain(s, "domain", s, 0, true) }

// parseDomain reads a domain in letters or in the form for the wire (RFC 5891),
// lowers it, and says at which column of the whole text it is wrong: base is
// where s begins in it. root allows a dot at the end.
func parseDomain(s, what, whole string, base int, root bool) (Domain, error) {
	fail := func(pos int, reason string) (Domain, error) {
		return Domain{}, &SyntaxError{What: what, Input: whole, Pos: base + pos, Reason: reason}
	}
	if s == "" {
		return fail(0, "the domain is empty")
	}
	// The exact bound is asked of the encoded form below, because only that
	// form goes over the wire (RFC 1035 §2.3.4). This one is asked first, so
	// that a hostile text of a megabyte costs nothing.
	if len(s) > 4*maxDomain { // four bytes a character; encoding costs the square of it
		return fail(maxDomain, fmt.Sprintf("a domain has at most %d characters", maxDomain))
	}
	if !utf8.ValidString(s) {
		return fail(invalidUTF8(s), "the text is not valid UTF-8")
	}
	if root && strings.HasSuffix(s, ".") {
		s = s[:len(s)-1]
	}
	// RFC 5321 §4.1.3 lets [192.0.2.1] stand for a domain. Rules speak of
	// organisations, and an IP address belongs to none that anybody here could
	// name.
	if strings.HasPrefix(s, "[") {
		return fail(0, "an address literal stands where a domain belongs")
	}
	if _, err := netip.ParseAddr(s); err == nil {
		return fail(0, "an IP address stands where a domain belongs")
	}
	for i := 0; i < len(s); i++ { // what people mistype, in their words
		switch c := s[i]; {
		case c == '@' && what == "address":
			return fail(i, `it contains two "@"`)
		case c == ' ':
			return fail(i, "there is a space in the domain")
		case c < 0x80 && c != '-' && c != '.' && !(c >= '0' && c <= '9') && !(c|0x20 >= 'a' && c|0x20 <= 'z'):
			if c < 0x20 || c == 0x7f {
				return fail(i, "there is a control character in the domain")
			}
			return fail(i, fmt.Sprintf("the character %q cannot stand in a domain", string(rune(c))))
		}
	}
	// Nearly every domain that is read was written by a program and is in
	// normal form already. The mapping of UTS #46 would give it back unchanged
	// at a hundred times the cost.
	if plain(s) {
		if pos, reason := checkPlain(s); reason != "" {
			return fail(pos, reason)
		}
		return Domain{s}, nil
	}
	// All else goes through the mapping: upper-case letters, other scripts,
	// A-labels that have to be checked for being what their letters encode to.
	name, err := profile.ToASCII(s)
	if err != nil {
		reason := strings.TrimPrefix(err.Error(), "idna: ")
		// The library names a refused character by its code point. People look
		// for the character itself, so it is found in what they wrote and shown
		// as they wrote it.
		if code, found := strings.CutPrefix(reason, "disallowed rune U+"); found {
			if n, err := strconv.ParseUint(code, 16, 32); err == nil {
				return fail(
					max(0, strings.IndexRune(s, rune(n))),
					fmt.Sprintf("the character %q cannot stand in a domain", string(rune(n))),
				)
			}
		}
		return fail(0, "it does not follow the rules for names in other scripts: "+reason)
	}
	if pos, reason := checkPlain(name); reason != "" {
		return fail(pos, reason)
	}
	// Full-width digits and ideographic full stops turn into an IP address only
	// by the mapping.
	if _, err := netip.ParseAddr(name); err == nil {
		return fail(0, "an IP address stands where a domain belongs")
	}
	return Domain{name}, nil
}

// plain reports whether s is already lower-case LDH text with no A-label, so
// that the mapping of UTS #46 would return it as it is.
func plain(s string) bool {
	for i := 0; i < len(s); i++ {
		c := s[i]
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '.') {
			return false
		}
	}
	return !strings.Contains(s, "xn--")
}

// checkPlain applies RFC 1035 §2.3.1 and RFC 5891 §4.2.3.1 to ASCII text.
//
// It returns the offset of the first offending byte and why, or an empty reason
// where all is well: labels of 1 to 63 octets of letters, digits and hyphens,
// none with a hyphen at its ends, at least two of them, and 253 octets
// altogether.
func checkPlain(s string) (pos int, reason string) {
	if len(s) > maxDomain {
		return maxDomain, fmt.Sprintf("a domain has at most %d characters", maxDomain)
	}
	start, labels := 0, 0
	for i := 0; i <= len(s); i++ {
		if i < len(s) && s[i] != '.' {
			continue
		}
		label := s[start:i]
		switch {
		case label == "":
			return start, "a label between two dots is empty"
		case len(label) > 63:
			return start, "a label has at most 63 characters"
		case label[0] == '-':
			return start, "a label cannot begin with a hyphen"
		case label[len(label)-1] == '-':
			return i - 1, "a label cannot end with a hyphen"
		// RFC 5891 §4.2.3.1 keeps every other prefix of two letters and two
		// hyphens for encodings to come.
		case len(label) > 3 && label[2] == '-' && label[3] == '-' && label[:2] != "xn":
			return start + 2, "a label has hyphens in its third and fourth place only as an A-label"
		}
		labels++
		start = i + 1
	}
	if labels < 2 {
		return 0, "a full domain has at least two labels"
	}
	// RFC 3696 §2: a top-level name is never all digits, so that no IP address
	// reads as a name.
	if last := s[strings.LastIndexByte(s, '.')+1:]; last[0] >= '0' && last[0] <= '9' && allDigits(last) {
		return len(s) - len(last), "the last label cannot be a number"
	}
	return 0, ""
}

// allDigits reports whether s holds nothing but the digits 0 to 9; it is so of
// an empty text, too.
func allDigits(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// invalidUTF8 returns the offset of the first byte that is no UTF-8 (RFC 3629).
// A replacement character that was really written is three bytes long and is
// passed over.
func invalidUTF8(s string) int {
	for i, r := range s {
		if r == utf8.RuneError {
			if _, n := utf8.DecodeRuneInString(s[i:]); n == 1 {
				return i
			}
		}
	}
	return 0
}

// String returns the normal form.
func (d Domain) String() string { return d.name }

// IsZero reports whether d is no domain.
func (d Domain) IsZero() bool { return d.name == "" }

// Unicode returns the form people read, with U-labels (RFC 5890 §2.3.2.1).
func (d Domain) Unicode() string {
	if u, err := idna.Display.ToUnicode(d.name); err == nil {
		return u
	}
	return d.name
}

// Parent returns the domain without its first label; ok is false when fewer
// than two labels would remain.
func (d Domain) Parent() (p Domain, ok bool) {
	i := strings.IndexByte(d.name, '.')
	if i < 0 || strings.IndexByte(d.name[i+1:], '.') < 0 {
		return Domain{}, false
	}
	return Domain{d.name[i+1:]}, true
}

// Under reports whether d lies below top, and is not top itself.
func (d Domain) Under(top Domain) bool {
	n := len(d.name) - len(top.name)
	return n > 0 && top.name != "" && d.name[n:] == top.name && d.name[n-1] == '.'
}

// IsPublicSuffix reports whether names directly below d are registered by the
// public, as the Public Suffix List has it; unlisted top-level names count only
// when they stand alone, which ParseDomain refuses.
//
// Nobody may make a partner of one: co.example with all below it would be
// thousands of firms.
func (d Domain) IsPublicSuffix() bool {
	s, _ := publicsuffix.PublicSuffix(d.name)
	return s == d.name
}

// Address is a mail address in normal form: the local part in lower case, the
// domain as Domain has it. Nothing else is folded: dots and tags stay. The zero
// value is no address. Addresses compare with ==.
//
// RFC 5321 §2.4 leaves it to the receiving host whether upper and lower case
// differ before the @. No mail service in use tells them apart, and two records
// of one person would be two answers to one question; so the case is folded.
// Dots and tags are the business of single providers and stay.
type Address struct {
	text string // local@domain
	at   int    // offset of the separating '@'
}

// Parse brings s into normal form. It takes the Mailbox of RFC 5321 §4.1.2
// whose domain is a name; an address literal is refused, because no rule can
// say anything about it. An error is a *SyntaxError.
func Parse(s string) (Address, error) {
	fail := func(pos int, reason string) (Address, error) {
		return Address{}, &SyntaxError{What: "address", Input: s, Pos: pos, Reason: reason}
	}
	if s == "" {
		return fail(0, "the address is empty")
	}
	if !utf8.ValidString(s) {
		return fail(invalidUTF8(s), "the text is not valid UTF-8")
	}
	// The local part is scanned before the @ is looked for: in quotes an @ may
	// stand before it.
	end, pos, reason := localPart(s)
	if reason != "" {
		return fail(pos, reason)
	}
	if end > maxLocal {
		return fail(maxLocal, fmt.Sprintf("the part before the @ has at most %d characters", maxLocal))
	}
	if end == len(s) {
		return fail(end, "there is no @")
	}
	d, err := parseDomain(s[end+1:], "address", s, end+1, false)
	if err != nil {
		return Address{}, err
	}
	if end+1+len(d.name) > maxAddress {
		return fail(0, fmt.Sprintf("an address has at most %d characters", maxAddress))
	}
	local := s[:end]
	// Where nothing has to be changed the address shares the bytes of s, and
	// costs no memory of its own.
	if lowered := lowerASCII(local); lowered != local || d.name != s[end+1:] {
		return Address{text: lowered + "@" + d.name, at: end}, nil
	}
	return Address{text: s, at: end}, nil
}

// localPart scans the Local-part of RFC 5321 §4.1.2 and returns the offset of
// the @ behind it, or where and why the text is no local part.
//
// Two forms exist: a Quoted-string, in which nearly everything printable may
// stand, and a Dot-string of atoms (RFC 5322 §3.2.3). Characters beyond ASCII
// would need SMTPUTF8 (RFC 6531) all the way to the mailbox, which no
// invitation can count on; they are refused. Where no @ follows, end is the
// length of s.
func localPart(s string) (end, pos int, reason string) {
	if s[0] == '"' {
		for i := 1; i < len(s); i++ {
			switch c := s[i]; {
			case c == '\\':
				i++
				if i == len(s) || s[i] < 0x20 || s[i] > 0x7e {
					return 0, i - 1, "a backslash in quotes stands before a printable character"
				}
			case c == '"':
				if i == 1 {
					return 0, 0, "the quotes are empty"
				}
				if i+1 < len(s) && s[i+1] != '@' {
					return 0, i + 1, "an @ must follow the closing quote"
				}
				return i + 1, 0, ""
			case c < 0x20 || c > 0x7e:
				return 0, i, "only printable ASCII may stand before the @"
			}
		}
		return 0, 0, "the opening quote is never closed"
	}
	dot := true // a dot may not come next
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '@':
			if i == 0 {
				return 0, 0, "nothing stands before the @"
			}
			if dot {
				return 0, i - 1, "a dot cannot stand right before the @"
			}
			return i, 0, ""
		case c == '.':
			if dot {
				return 0, i, "a dot cannot come first or twice in a row"
			}
			dot = true
		case atext(c):
			dot = false
		case c >= 0x80:
			return 0, i, "only ASCII may stand before the @"
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			return 0, i, "there is a blank before the @"
		default:
			return 0, i, fmt.Sprintf("the character %q cannot stand before the @", c)
		}
	}
	return len(s), 0, ""
}

// atext is the set of RFC 5322 §3.2.3.
func atext(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("!#$%&'*+-/=?^_`{|}~", c) >= 0
}

// lowerASCII lowers A to Z and leaves every other byte alone; it copies nothing
// where there is nothing to lower.
func lowerASCII(s string) string {
	for i := 0; i < len(s); i++ {
		if s[i] >= 'A' && s[i] <= 'Z' {
			b := []byte(s)
			for ; i < len(b); i++ {
				if b[i] >= 'A' && b[i] <= 'Z' {
					b[i] += 'a' - 'A'
				}
			}
			return string(b)
		}
	}
	return s
}

// ParseKept does the same for an address that is kept: *@domain stands for a
// typical newcomer in questions alone.
func ParseKept(s string) (Address, error) {
	a, err := Parse(s)
	if err == nil && a.IsNewcomer() {
		return Address{}, &SyntaxError{
			What:  "address to keep",
			Input: s,
			Reason: "it stands for a typical newcomer, in questions alone; for everybody there, write domain:" + a.Domain().
				String() +
				" where parties are named",
		}
	}
	return a, err
}

// Normal takes an address that String wrote; any other text makes no address.
// It is for those who keep many: nothing is checked again.
func Normal(text string) Address { return Address{text: text, at: strings.LastIndexByte(text, '@')} }

// Newcomer returns the address that stands for a typical newcomer from d, one
// nobody has a record of. It is written *@domain.
func Newcomer(d Domain) Address { return Address{text: "*@" + d.name, at: 1} }

// IsNewcomer reports whether a stands for a typical newcomer. The mailbox of
// the name * at the same domain, which RFC 5321 would allow, is taken for it
// too. Questions alone take it; whatever is kept is read by ParseKept.
func (a Address) IsNewcomer() bool { return a.at == 1 && a.text[0] == '*' }

// String returns the normal form.
func (a Address) String() string { return a.text }

// IsZero reports whether a is no address.
func (a Address) IsZero() bool { return a.text == "" }

// Local returns the part before the @, in lower case.
func (a Address) Local() string { return a.text[:a.at] }

// Domain returns the part behind the @.
func (a Address) Domain() Domain {
	if a.text == "" {
		return Domain{}
	}
	return Domain{a.text[a.at+1:]}
}
