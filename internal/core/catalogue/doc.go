// Package catalogue holds the rules and the actions as data: one entry in one
// place for each. The engine, the file format, the API, the client, the console
// and the docs follow from it; nothing outside repeats a scale, a layer or what
// an action asks.
//
// The package knows no world: no partner, no person, no resource that exists.
//
// # Rules
//
// A rule has a name (files.link_days), a scale of values from tight to loose,
// the limit and default of a new installation, the layers besides the
// organisation that may set it, and its words: a title, a sentence for each
// value, the value that is advised and why. There are five shapes of scale:
//
//	switch   off < on
//	level    closed < listed < any
//	days     fewer are tighter; none is no limit
//	methods  a set; a subset is tighter
//	choice   no order: the nearest layer that speaks counts
//
// A value is two bytes (Value), the index in its scale, and is compared through
// its scale alone.
//
// # Actions
//
// An action is one thing that somebody may try: files.open, chat.message,
// directory.invite. For each class of account that may try it there is a row
// (Ask) that says what the seven gates ask: whose domain, which level of
// domains, which opening of the partner, which switches, which rules must reach
// which value, which role is needed. A class without a row cannot do it by
// nature, whatever is set.
//
// # Answers
//
// Gates, conditions and the codes of causes are here, too (answer.go), each
// code with the sentence that is shown and what to do about it. Sentences have
// places in braces, which the engine fills with names and values.
//
// # Adding one
//
// A rule is an entry in rules.go and an example in examples.go; an action is an
// entry in action.go and an example. Everything else is made from these, or a
// test fails and says what is missing: a rule that no action asks, an example
// that does not turn on its rule, a sentence too few.
package catalogue
