package expect

import (
	"fmt"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Expectations as sentences. An expectation is agreed to by whoever owns it,
// and they read sentences and not fields: *Only people from Ilvane may read the
// report: Visits.*

// setWords are how a set of parties is spoken of. "Nobody from Ilvane may",
// "Everybody from Ilvane may", "people from Ilvane".
type setWords struct{ nobody, everybody, some string }

// wordsFor says whom an expectation is about.
func wordsFor(s *engine.Snapshot, party string) setWords {
	kind, rest, cut := strings.Cut(party, ":")
	of := ""
	switch {
	case party == world.Everybody:
		return setWords{"Nobody outside may", "Everybody outside may", "everybody outside"}
	case cut && kind == "partner":
		of = "from " + rest
		for i := range s.Policy().Partners {
			if p := &s.Policy().Partners[i]; p.ID == rest {
				of = "from " + p.Name
			}
		}
	case cut && kind == "domain":
		of = "at " + rest
	case cut && kind == "group":
		of = "in the group " + name(s.NameOfGroup(rest), rest)
	case cut && kind == "kind":
		one := map[string]string{"guest": "guest", "provisioned": "guest whom a partner's feed keeps",
			"federated": "person with an account elsewhere", "personal": "private address", "bearer": "holder of a link"}[rest]
		return setWords{"No " + one + " may", "Every " + one + " may",
			map[string]string{"guest": "guests", "provisioned": "guests whom a partner's feed keeps",
				"federated": "people with an account elsewhere", "personal": "private addresses", "bearer": "holders of a link"}[rest]}
	default:
		who, err := engine.ParseWho(party)
		if n := s.NameOfSubject(who); err == nil && n != "" && n != party {
			party = n + " (" + party + ")"
		}
		return setWords{party + " may not", party + " may", party}
	}
	return setWords{"Nobody " + of + " may", "Everybody " + of + " may", "people " + of}
}

// name is the name of something, or its id where it has none.
func name(name, id string) string {
	if name == "" {
		return id
	}
	return name
}

// things are what titles of actions are about, those of two words first.
var things = []string{"report area", "task list", "space", "page", "course", "channel", "meeting", "file", "report"}

// anyOf says what an action does with any thing, from what it does with one:
// open any file.
func anyOf(title string) string {
	for _, thing := range things {
		if strings.Contains(title, "the "+thing) {
			return strings.Replace(title, "the "+thing, "any "+thing, 1)
		}
	}
	return title
}

// Says writes an expectation as a sentence, or two. It names things by their
// names, so that somebody who does not know ids can agree to it. What is not
// there any more is called by its id.
func Says(s *engine.Snapshot, x *world.Expectation) string {
	if x.Could && CouldSays(x.Expect.Sort) {
		return saysNow(s, x) + " Nor could that change without an administrator or keeper."
	}
	return saysNow(s, x)
}

// saysNow is the sentence about what is so now.
func saysNow(s *engine.Snapshot, x *world.Expectation) string {
	set := wordsFor(s, x.Party)
	service, all := strings.CutSuffix(x.Action, ".*")
	do := "do anything"
	switch act, ok := catalogue.ActionByName(x.Action); {
	case ok:
		do = act.Title
	case all:
		do = "do anything in " + service
	}
	act, one := catalogue.ActionByName(x.Action)
	r, err := engine.ParseResource(x.Resource)
	if one && err == nil {
		do = act.TitleOn(r.Kind)
	}
	switch n := s.NameOf(r); {
	case x.Resource == "*":
		do = anyOf(do)
	case err != nil || n == "":
		do += ": " + x.Resource
	case r.Kind != catalogue.Space || one && act.Takes(r.Kind):
		do += ": " + n
	case one:
		do = anyOf(do) + " in " + n
	default:
		do += ": " + n + " and all in it"
	}
	// A list with commas and a word before the last.
	list := func(items []string, last string) string {
		if n := len(items); n > 1 {
			return strings.Join(items[:n-1], ", ") + " " + last + " " + items[n-1]
		}
		return strings.Join(items, "")
	}
	switch e := &x.Expect; e.Sort {
	case world.AlwaysSo:
		return strings.TrimSuffix(set.everybody, " may") + " may always " + do + "."
	case world.OnlyParties:
		var who []string
		for _, o := range e.Only {
			who = append(who, wordsFor(s, o).some)
		}
		if x.Party == world.Everybody {
			return "Only " + list(who, "and") + " may " + do + "."
		}
		return "Of " + set.some + ", only " + list(who, "and") + " may " + do + "."
	case world.OnlyUntil:
		return set.nobody + " " + do + " after " + moment.DayOf(e.Until-1, s.Zone()).String() + "."
	case world.AtMost:
		return fmt.Sprintf("Of %s, at most %d may %s.", set.some, e.AtMost, do)
	case world.OnCondition:
		var what []string
		for _, c := range e.Conditions {
			what = append(what, strings.ReplaceAll(c, "_", " "))
		}
		return set.everybody + " " + do + " only under these conditions: " + list(what, "and") + "."
	}
	return set.nobody + " " + do + "."
}
