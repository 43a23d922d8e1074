package catalogue

// Actions: what somebody may try, and what each account is asked for it. The
// first half of the file is the words that rows are made of, the second the
// table itself.

// Service is one of the seven services of model §1.
type Service uint8

// The services, in the order in which they are shown.
const (
	Directory Service = iota
	Spaces
	Chat
	Meetings
	Files
	Mail
	Reports
	NumServices = 7
)

// serviceNames are the words for services, by Service; names of rules and
// actions begin with them.
var serviceNames = [...]string{"directory", "spaces", "chat", "meetings", "files", "mail", "reports"}

func (s Service) String() string { return serviceNames[s] }

// Key is a service and a direction, written chat.in: what a partner is opened
// for and what a stance speaks about.
type Key uint8

// NumKeys is how many keys there are.
const NumKeys = 2 * NumServices

// In and Out build the key of a service and direction. In is for theirs coming
// to us.
func In(s Service) Key { return Key(2 * s) }

// Out is the key for our people going to theirs, or our mail leaving.
func Out(s Service) Key { return Key(2*s + 1) }

func (k Key) String() string {
	if k&1 == 0 {
		return serviceNames[k/2] + ".in"
	}
	return serviceNames[k/2] + ".out"
}

// ParseKey reads a key.
func ParseKey(s string) (Key, bool) {
	for k := Key(0); k < NumKeys; k++ {
		if k.String() == s {
			return k, true
		}
	}
	return 0, false
}

// ResourceKind is what a resource is: a kind of item, a space, or one of the
// things every person has.
type ResourceKind uint8

// The kinds of resource. Databases hold the numbers: they never change, and a
// new kind takes the next one.
const (
	Channel      ResourceKind = 0
	Folder       ResourceKind = 1
	File         ResourceKind = 2
	Page         ResourceKind = 3
	Tasklist     ResourceKind = 4
	Report       ResourceKind = 5
	Dashboard    ResourceKind = 6
	Space        ResourceKind = 7
	Meeting      ResourceKind = 8
	Person       ResourceKind = 9
	Mailbox      ResourceKind = 10
	Calendar     ResourceKind = 11
	OurDirectory ResourceKind = 12

	NumResourceKinds = 13
)

// resourceKinds says what each kind is called and whether it is something in a
// space. A kind that is missing here does not compile.
var resourceKinds = [NumResourceKinds]struct {
	name string
	item bool
}{
	Channel:      {"channel", true},
	Folder:       {"folder", true},
	File:         {"file", true},
	Page:         {"page", true},
	Tasklist:     {"tasklist", true},
	Report:       {"report", true},
	Dashboard:    {"dashboard", true},
	Space:        {"space", false},
	Meeting:      {"meeting", false},
	Person:       {"person", false},
	Mailbox:      {"mailbox", false},
	Calendar:     {"calendar", false},
	OurDirectory: {"directory", false},
}

func (k ResourceKind) String() string { return resourceKinds[k].name }

// IsItem reports whether k is something in a space.
func (k ResourceKind) IsItem() bool { return resourceKinds[k].item }

// ItemKinds lists the kinds of things in spaces.
func ItemKinds() (out []ResourceKind) {
	for k := range resourceKinds {
		if resourceKinds[k].item {
			out = append(out, ResourceKind(k))
		}
	}
	return
}

// ParseResourceKind reads a kind.
func ParseResourceKind(s string) (ResourceKind, bool) {
	for i := range resourceKinds {
		if resourceKinds[i].name == s {
			return ResourceKind(i), true
		}
	}
	return 0, false
}

// Class is the account that asks, as the column "who" of the catalogue has it.
//
// A class follows from the address or link that asks and from whether it has a
// record (model §4, gate 1); nobody chooses it. What is asked of each class is
// a row of the catalogue.
type Class uint8
