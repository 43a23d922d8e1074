package worldfile

import "strings"

// FieldSays is what the reference of the format says of one field.
type FieldSays struct {
	Name     string
	Required bool
	Takes    string
}

// SectionSays is what it says of one section of a file.
type SectionSays struct {
	Name   string
	Policy bool // else inventory
	Noun   string
	List   bool // of entries with the fields below; else the section has them itself, or stands for itself
	Fields []FieldSays
}

// Grammar returns every section of the format with its fields, in the order in which files are written.
func Grammar() (out []SectionSays) {
	for i := range kinds {
		k := &kinds[i]
		fields := k.fields()
		out = append(out, SectionSays{k.section, k.policy, k.noun, len(fields) > 0 && k.section != "organisation" && k.section != "settings",
			fields})
	}
	return out
}

// Inner returns what is written within an entry and has fields of its own, by what it is called.
func Inner() []SectionSays {
	return []SectionSays{
		{Name: "an item of a space", Fields: saysOf(itemFields)},
		{Name: "a stance of a partner", Fields: saysOf(stanceFields)},
		{Name: "a partner's sign-in", Fields: saysOf(signInFields)},
		{Name: "what a bundle gives", Fields: saysOf(giftFields)},
		{Name: "who may ask for a bundle", Fields: saysOf(whoFields)},
		{Name: "what a holding gives less", Fields: saysOf(lessFields)},
		{Name: "a domain that is written as an entry", Fields: saysOf(entryFields)},
	}
}

func saysOf[T any](fields []field[T]) (out []FieldSays) {
	for i := range fields {
		out = append(out, FieldSays{fields[i].name, fields[i].required, fields[i].takes})
	}
	return out
}

// What many fields take.
const (
	takesID       = "an id: lower-case letters, digits, dots, hyphens and underscores"
	takesMoment   = "a date, a moment, or days from today as +30d"
	takesFloor    = takesMoment + "; or never while they wait"
	takesDomains  = "a list of domains; *.NAME takes those below along"
	takesResource = "what it is about, as space:loan-dossier or folder:press-photos"
)

func oneOf(words []string) string { return "one of " + strings.Join(words, ", ") }

// fieldsIn names fields without reading them: the tables refer to each other.
func fieldsIn[T any](fields []field[T]) string {
	names := make([]string, len(fields))
	for i := range fields {
		names[i] = fields[i].name
	}
	return strings.Join(names, ", ")
}
