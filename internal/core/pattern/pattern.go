// Package pattern holds ready-made kinds of space: what somebody who makes a
// place for people from outside mostly wants, as the kind, the values and the
// first items of a space. Postures are the same for an organisation: a set of
// defaults to begin with, from closed to open.
//
// Both are proposals. What a pattern says that people from outside can do there
// is asked of the engine by a test, so that the sentence and the values cannot
// come apart.
package pattern

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Item is something that a space begins with. Its id is made when the space is.
type Item struct {
	Kind catalogue.ResourceKind
	Name string
}

// Pattern is a kind of space ready made. A pattern is a proposal: everything in
// it can be changed before the space is made and afterwards.
type Pattern struct {
	Name  string // by which it is asked for
	Title string
	// Says what people from outside can do there, in a sentence.
	Says         string
	Kind         world.SpaceKind
	Joinable     bool
	HouseLicence bool
	Rules        []world.Setting
	Items        []Item
	// Each says that everyone from outside gets a private folder, which the
	// others do not see.
	Each bool
	Role catalogue.Role // that who is invited gets, where nothing else is said
}

// rules makes settings of pairs of a name and a word; a wrong one stops the
// program.
func rules(pairs ...string) (out []world.Setting) {
	for i := 0; i < len(pairs); i += 2 {
		r, ok := catalogue.RuleByName(pairs[i])
		if !ok {
			panic("pattern: no rule " + pairs[i])
		}
		v, err := r.Scale.Parse(pairs[i+1])
		if err != nil {
			panic("pattern: " + err.Error())
		}
		out = append(out, world.Setting{Rule: r.ID, Value: v})
	}
	return
}

// Each is tried by a test: what it says outsiders can do is asked of the
// engine.
var all = []Pattern{
	{
		Name: "work", Title: "A place to work together", Says: "Guests write in the channel, edit files, pages and tasks. They pass nothing on.",
		Kind: world.Team, Role: catalogue.Contribute,
		Rules: rules("spaces.guests", "on", "files.reshare", "off", "files.bearer_links", "off"),
		Items: []Item{{catalogue.Channel, "General"}, {catalogue.Folder, "Files"}, {catalogue.Page, "Notes"}},
	},
	{
		Name: "publish", Title: "A place to publish",
		Says: "Guests read and download, and change nothing. Links open to whoever has them and end after 30 days.",
		Kind: world.Site, Role: catalogue.View,
		Rules: rules("spaces.guests", "on", "files.role", "view", "files.reshare", "off", "spaces.pages", "off", "spaces.tasks", "off",
			"files.bearer_links", "on", "files.link_right", "view", "files.link_days", "30"),
		Items: []Item{{catalogue.Folder, "To read"}},
	},
	{
		Name: "drop-off", Title: "A drop-off",
		Says: "Everyone from outside has a folder of their own. Nobody sees another’s, nor who else is there.",
		Kind: world.Team, Role: catalogue.Contribute, Each: true,
		Rules: rules("spaces.guests", "on", "spaces.members_seen", "off", "spaces.channels", "off", "spaces.pages", "off", "spaces.tasks", "off",
			"chat.guests", "off", "files.reshare", "off", "files.bearer_links", "off"),
	},
	{
		Name: "course", Title: "A course", Says: "Guests read the material and work on tasks. Our own people may join by themselves.",
		Kind: world.Course, Joinable: true, Role: catalogue.View,
		Rules: rules("spaces.guests", "on", "spaces.pages", "off", "files.reshare", "off", "files.bearer_links", "off"),
		Items: []Item{{catalogue.Page, "Programme"}, {catalogue.Folder, "Material"}, {catalogue.Tasklist, "Tasks"}},
	},
	{
		Name: "reports", Title: "A report area",
		Says: "Guests look at reports with the licence of the area. They do not edit, pass on or take the data out.",
		Kind: world.ReportArea, HouseLicence: true, Role: catalogue.View,
		Rules: rules("spaces.guests", "on", "reports.guest_edit", "off", "reports.reshare", "off", "reports.export", "off"),
	},
}

// All lists the patterns in the order in which they are offered.
func All() []Pattern { return all }

// Named finds a pattern by its name.
func Named(name string) (*Pattern, bool) {
	for i := range all {
		if all[i].Name == name {
			return &all[i], true
		}
	}
	return nil, false
}
