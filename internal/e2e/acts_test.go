package e2e

import (
	"regexp"
	"strings"
	"testing"
)

// told runs the client and returns what it prints, without what is of the day, and with two blanks between columns.
func (r *running) told(args ...string) string {
	r.t.Helper()
	_, out, errs := r.client("", args...)
	out = strings.ReplaceAll(out+errs, "\r", "") // lists end their lines as RFC 4180 says
	for _, x := range [][2]string{{`\d{4}-\d\d-\d\d( \d\d:\d\dZ)?`, "DAY"}, {`journal undo \d+`, "journal undo N"}, {`  +`, "  "}, {` +\n`, "\n"},
		{`,\d+ days,`, ",AGE,"}} {
		out = regexp.MustCompile(x[0]).ReplaceAllString(out, x[1])
	}
	return strings.TrimSpace(out)
}

// each runs commands one after the other and compares all that each says.
func (r *running) each(list ...[2]string) {
	r.t.Helper()
	for _, x := range list {
		var args []string
		for i, part := range strings.Split(x[0], `"`) { // what is between quotation marks is one argument
			if i%2 == 1 {
				args = append(args, part)
			} else {
				args = append(args, strings.Fields(part)...)
			}
		}
		if got, want := r.told(args...), strings.TrimSpace(x[1]); got != want {
			r.t.Errorf("%s\n%s\nwanted\n%s", x[0], got, want)
		}
	}
}

// TestGuestActs does to one guest all that can be done, from the client: who loses and gains is said before and after, what
// makes no sense is refused with the reason, and nothing is done by a preview.
func TestGuestActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	const g = "anouk.carrowby@lab.ilvane.example"
	const invited = "bertil.brannoch@lab.ilvane.example"
	csv := func(done, then, loses, gains, because string) string {
		return "address,done,then,loses,gains,because\n" + g + "," + strings.Join([]string{done, then, loses, gains, because}, ",")
	}
	ahead := func(text string) string { return strings.Replace(text, ",done,", ",would,", 1) }
	stays := "DAY the record is suspended"
	r.each([][2]string{
		{"guest set " + g + " --location Lisvane --reason moved -o csv", csv("yes", stays, "", "", "")},
		{"guest set " + g + " --location Lisvane", "ADDRESS  DONE  THEN  LOSES  GAINS  BECAUSE\n" +
			g + "  no  " + stays + "  nothing changes\nChanged: 0 of 1.\nwexillum: nothing was done"},
		{"guest set " + g + " --licence gold", `wexillum: The request is not valid: licence "gold": write none, ours, theirs`},
		{"guest set " + g + " --language fr", `wexillum: The request is not valid: language "fr": write en, pt`},
		{"guest set nobody@lab.ilvane.example --name N", "wexillum: Not found: there is no record of nobody@lab.ilvane.example"},
		{"guest end-grant " + g + " --on space:loan-dossier", `wexillum: The request is not valid: reason "": say why`},
		{"guest end-grant " + g + " --on space:nothing --reason over -o csv", csv("no", "", "", "", "they hold no grant on space:nothing")},
		{"guest end-grant " + g + " --on space:loan-dossier --reason over --preview -o csv", ahead(csv("yes", stays, "13", "", ""))},
		{"guest end-grant " + g + " --on space:loan-dossier --reason over -o csv", csv("yes", stays, "13", "", "")},
		{"guest end-grant " + g + " --on space:loan-dossier --reason over -o csv", csv("no", "", "", "", "they hold no grant on space:loan-dossier")},
		{"guest confirm " + g + " --on space:nothing -o csv", csv("no", "", "", "", "they hold no grant to confirm")},
		{"guest confirm " + g + " -o csv", csv("yes", stays, "", "", "")},
		{"guest remind " + g + " -o csv", csv("no", "", "", "", "they have accepted already")},
		{"guest invite-again " + g + " -o csv", csv("no", "", "", "", "they have accepted already")},
		{"guest back " + g + " --reason again -o csv", csv("no", "", "", "", "they are not suspended")},
		{"guest suspend " + g + " --reason leave --preview -o csv", ahead(csv("yes", "DAY the record is removed", "3", "", ""))},
		{"guest suspend " + g + " --reason leave -o csv", csv("yes", "DAY the record is removed", "3", "", "")},
		{"guest suspend " + g + " --reason leave -o csv", csv("no", "", "", "", "they are suspended already")},
		{"guest back " + g + " --reason again --preview -o csv", ahead(csv("yes", stays, "", "3", ""))},
		{"guest back " + g + " --reason again -o csv", csv("yes", stays, "", "3", "")},
		{"guest extend " + g + " --reason more --until 2026-01-01", `wexillum: The request is not valid: until "DAY": it lies before now`},
		{"guest extend", "wexillum: name the guests: addresses, or --list FILE"},
		{"guest hand-over " + g + " --reason moves --to nobody", `wexillum: The request is not valid: sponsor "nobody": there is no such person here`},
		{"guest hand-over " + g + " --reason moves --to s.lindqvane -o csv", csv("no", "", "", "", "s.lindqvane answers for them already")},
		{"guest hand-over " + g + " --reason moves --to d.ekwinter -o csv", csv("yes", stays, "", "", "")},
		{"guest end " + g + " --reason left -o csv", csv("yes", "DAY the record is removed", "3", "", "")},
		{"guest back " + g + " --reason again -o csv", csv("no", "", "", "", "a cause stands: the end of their record has passed; extend it first")},
		{"guest remove " + g + " --reason asked -o csv", csv("yes", "removed", "", "", "")},
		{"guest remove " + g + " --reason asked", "wexillum: Not found: there is no record of " + g},
		{"guest remind " + invited + " -o csv", strings.ReplaceAll(csv("yes", "DAY the invitation lapses", "", "", ""), g, invited)},
		{"guest invite-again " + invited + " -o csv", strings.ReplaceAll(csv("yes", "DAY the invitation lapses", "", "", ""), g, invited)},
		{"guest suspend " + invited + " --reason x -o csv", strings.ReplaceAll(csv("no", "", "", "",
			"they are only invited and reach nothing yet; remove them to take the invitation back"), g, invited)},
		{"guest end " + invited + " --reason x -o csv", strings.ReplaceAll(csv("no", "", "", "",
			"they have not accepted; remove them to take the invitation back"), g, invited)},
	}...)
	// The reason stands in the journal, of what changes nothing anybody reaches, too.
	r.says(0, "moved", "journal", "--kind", "guest", "--id", g)
}

// TestPlaceActs changes, closes and removes things and people of the inventory from the client: each says who gains and loses,
// what stands in the way, and how it is taken back.
func TestPlaceActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	nothing := "\n\nNothing changes for anybody that is counted."
	back := nothing + "\nBack: wexillum journal undo N --why \"as it was\""
	r.each([][2]string{
		{"item set press-kit --private yes", "item press-kit: changed" + back},
		{"item set press-kit --private yes", "item press-kit: is so already" + nothing},
		{"item set press-kit --space nowhere", "item press-kit: refused\n  space nowhere: there is no such space\n\nNothing was changed."},
		{"item remove press-kit", "item press-kit: refused\n  it is still named: 2 links to it work; close it first\n\nNothing was changed."},
		{"item close press-kit --why over", "item press-kit: closed\n\n  parties  0 gain, 1 lose\n  granted  0 gained, 4 lost\n  wide  0 gained, 0 lost\n\n" +
			"  link:press-kit-link: 4 things fewer\nBack: wexillum journal undo N --why \"as it was\""},
		{"item close press-kit --why over", "item press-kit: nobody from outside has anything in it" + nothing},
		{"item remove press-kit --why over", "item press-kit: removed" + back},
		{"item remove press-kit", "item press-kit: refused\n  there is no such item\n\nNothing was changed."},
		{`meeting domains add Towns --domains tarn.example,fell.example`, "list of domains towns: made" + back},
		{"meeting domains list", "ID  NAME  DOMAINS\ntowns  Towns  tarn.example fell.example"},
		{"meeting domains set towns --drop-domains fell.example", "list of domains towns: changed" + back},
		{"meeting domains set towns --drop-domains fell.example", `wexillum: --drop-domains "fell.example": it is not there; there are tarn.example`},
		{"meeting domains set nothing --name N", "list of domains nothing: refused\n  there is no such list of domains\n\nNothing was changed."},
		{"meeting domains set nothing --drop-domains fell.example", `wexillum: Not found: there is no list of domains "nothing"`},
		{"meeting set rigging-call --drop-sign-in-lists towns", `wexillum: --drop-sign-in-lists "towns": it is not there; there is none`},
		{"meeting set rigging-call --add-sign-in-lists towns", `wexillum: The request is not valid: why "": it lets somebody do more than before: say why`},
		{"meeting set rigging-call --add-sign-in-lists towns --why x -o csv", "kind,id,result,cause\nmeeting,rigging-call,changed,"},
		{"meeting domains remove towns", "list of domains towns: refused\n  it is still named: the meeting rigging-call\n\nNothing was changed."},
		{"meeting set rigging-call --drop-sign-in-lists towns -o csv", "kind,id,result,cause\nmeeting,rigging-call,changed,"},
		{"meeting domains remove towns --why over", "list of domains towns: removed" + back},
		{"meeting remove rigging-call --why over -o csv", "kind,id,result,cause\nmeeting,rigging-call,removed,"},
		{"meeting remove rigging-call", "meeting rigging-call: refused\n  there is no such meeting\n\nNothing was changed."},
		{"group set restorers --add-parties nobody", "group restorers: refused\n  parties: \"nobody\" is no address: there is no @ (at position 7)\n\nNothing was changed."},
		{"group set restorers --drop-parties greta.larkmoor@ilvane.example -o csv", "kind,id,result,cause\ngroup,restorers,changed,"},
		{"group remove restorers --preview -o csv", "kind,id,result,cause\ngroup,restorers,refused,it is still named: its role on folder:condition-reports"},
		{"person set d.ekwinter --add-groups loans", `wexillum: The request is not valid: why "": it lets somebody do more than before: say why`},
		{"person set d.ekwinter --add-groups loans --why x -o csv", "kind,id,result,cause\nperson,d.ekwinter,changed,"},
		{"person set d.ekwinter --add-groups nothing", "person d.ekwinter: refused\n  groups: there is no group \"nothing\"\n\nNothing was changed."},
		{"person set d.ekwinter --address d@elsewhere.example", "person d.ekwinter: changed\n  d@elsewhere.example is at no domain of ours." + back},
		{"person matrix x", "wexillum: wexillum person matrix takes no arguments; take \"x\" out\nusage: wexillum person matrix [flags]"},
		{"space remove nowhere --preview", "space nowhere: refused\n  there is no such space\n\nNothing was changed."},
		{"space show nowhere", `wexillum: Not found: there is no space "nowhere"`},
	}...)
}

// TestLetterActs reads and closes letters to partners from the client.
func TestLetterActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	head := "letter,partner,about,sent,state,age,to,said\n"
	r.each([][2]string{
		{"partner letter show nothing", `wexillum: Not found: there is no letter "nothing"`},
		{"partner letter show oskelund-spring --form pdf", "wexillum: The request is not valid: form \"pdf\": value must be one of 'markdown', 'html', 'text'"},
		{"partner letter close oskelund-spring", "wexillum: wexillum partner letter close takes ID admitted|refused|withdrawn; one was given\n" +
			"usage: wexillum partner letter close ID admitted|refused|withdrawn [flags]"},
		{"partner letter close oskelund-spring maybe", "wexillum: The request is not valid: answer: value must be one of 'admitted', 'refused', 'withdrawn'"},
		{"partner letter close oskelund-spring withdrawn --said \"they forgot\" -o csv", head +
			"oskelund-spring,oskelund,spaces.in,DAY,withdrawn,AGE,guest-access@oskelund.example,they forgot"},
		{"partner letter close oskelund-spring admitted", `wexillum: It is there already, or in the way: the letter "oskelund-spring" is closed already, withdrawn`},
	}...)
	for _, form := range []string{"markdown", "html", "text"} {
		out := r.must("partner", "letter", "show", "pallowick-calls", "--form", form)
		if !strings.Contains(out, "Studio Pallowick") || strings.Contains(out, "<h1") != (form == "html") || strings.Contains(out, "# To") != (form == "markdown") {
			t.Errorf("as %s:\n%s", form, out)
		}
	}
}

// TestDraftActs has a draft go back from waiting to open, takes edits out of it, and says what it lacks.
func TestDraftActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	made := regexp.MustCompile(`d\d+`).FindString(r.must("draft", "new", "Lower"))
	empty := made + "  Lower (open), made by harbour on revision 2\n\nIt changes nothing yet. Change policy in it with --draft " + made +
		", as wexillum rules set … --draft " + made
	r.must("rules", "set", "files.given_to", "--limit", "inside", "--draft", "Lower", "--why", "x")
	r.each([][2]string{
		{"draft withdraw Lower", `wexillum: It is there already, or in the way: the draft "Lower" waits for nothing`},
		{"draft withdraw nothing", `wexillum: Not found: there is no draft "nothing"`},
		{"draft undo Lower rule spaces.guests", `wexillum: Not found: the draft "Lower" has no edit of rule spaces.guests`},
		{"draft undo Lower rule files.given_to", empty},
		{"draft show Lower", empty},
		{"draft undo Lower rule files.given_to", `wexillum: Not found: the draft "Lower" has no edit of rule files.given_to`},
	}...)
	// What breaks an expectation on a day to come is told where nothing changes today, too, with the day.
	impact := "Impact: nothing changes for anybody.\n  breaks what is expected:\n" +
		"  restorers-enter  Maren Holtveig (maren.holtveig@ilvane.example) may always enter the space: Loan dossier. (1 time, 1 party, from DAY on)\n" +
		"  Maren Holtveig (maren.holtveig@ilvane.example): spaces.enter, space:loan-dossier"
	r.must("rules", "set", "guests.idle_days", "--default", "7", "--limit", "7", "--draft", "Lower", "--why", "x")
	r.each([][2]string{
		{"draft impact Lower", impact},
		{"draft publish Lower --why x --yes", impact + "\nwexillum: It breaks what is expected: restorers-enter (from DAY on); " +
			"to publish it all the same, say why in despite (--despite)"},
	}...)
}

// TestFeedActs looks at feeds in both directions from the client, lets one on, and says what is missing.
func TestFeedActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	why := `wexillum: The request is not valid: why "": say why; the journal keeps it`
	none := `wexillum: Not found: "nobody" keeps nobody in our directory; begin its feed first`
	r.each([][2]string{
		{"feed show nobody", none},
		{"feed people nobody", none},
		{"feed twins nobody", none},
		{"feed set nobody --state off --why x", none},
		{"feed apply sandrill", why},
		{"feed release sandrill", `wexillum: The request is not valid: why "": say why so many leave at once`},
		{"feed out show nobody", `wexillum: Not found: no feed keeps people of ours at "nobody"; begin one first`},
		{"feed out log ilvane", "Nothing came or went yet."},
		{"feed out release ilvane", why},
		{"feed out set ilvane --state on", why},
		{"feed out set ilvane --state maybe --why x", `wexillum: The request is not valid: state "maybe": write held, on`},
		{"feed out list -o csv", "partner,name,state,kept there,closed there,not taken,sent last,sent next\nilvane,Ilvane Conservation,held,0,0,0,,by hand"},
	}...)
	for _, form := range []string{"table", "json", "yaml", "csv"} {
		for _, args := range [][]string{{"feed", "list"}, {"feed", "out", "list"}, {"partner", "people", "ilvane"}, {"person", "list"},
			{"group", "list"}, {"meeting", "list"}, {"guest", "asks"}} {
			if out := r.must(append(args, "-o", form)...); len(strings.Split(out, "\n")) < 2 {
				t.Errorf("%v as %s: %q", args, form, out)
			}
		}
	}
	r.must("feed", "out", "set", "ilvane", "--state", "on", "--why", "what it would do is right")
	r.eventually("ilvane  Ilvane Conservation: on", "feed", "out", "show", "ilvane")
}

// TestAwayActs says that somebody is away, with whoever decides meanwhile, and back again.
func TestAwayActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	row := "o.tidewell,Odile Tidewell,away,Soren Lindqvane,DAY,DAY,0,0,on leave"
	head := "person,name,state,decides meanwhile,from,until,requests,review lines,why\n"
	r.each([][2]string{
		{"absence set o.tidewell --deputy s.lindqvane --until +14d", `wexillum: The request is not valid: why "": say why, in 1 to 500 letters; whoever decides instead reads it`},
		{"absence set o.tidewell --deputy o.tidewell --until +14d --why x", `wexillum: The request is not valid: deputy "o.tidewell": nobody stands in for themselves`},
		{"absence set o.tidewell --deputy nobody --until +14d --why x", `wexillum: The request is not valid: deputy "nobody": there is no such person here`},
		{"absence set nobody --deputy s.lindqvane --until +14d --why x", `wexillum: The request is not valid: person "nobody": there is no such person here`},
		{"absence set o.tidewell --deputy s.lindqvane --until +14d --why \"on leave\" -o csv", head + row},
		{"absence list -o csv", head + row},
		{"absence end o.tidewell", "o.tidewell decides again."},
		{"absence end o.tidewell", "wexillum: Not found: \"o.tidewell\" is not said to be away"},
		{"absence list", "Nobody is said to be away. For yourself: wexillum absence set --until +14d --deputy PERSON --why …"},
	}...)
}

// TestWhatIfActs tells from the client how dates would move, and changes nothing.
func TestWhatIfActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	const g = "anouk.carrowby@lab.ilvane.example"
	was := "As it is:\n  DAY the record is suspended (not seen for too long)\n  DAY the grant ends: Loan dossier (its own end)\n" +
		"  DAY the record is removed (the days of grace are over, after: not seen for too long)\n\n"
	dump := r.must("dump")
	r.each([][2]string{
		{"due " + g + " --if suspend", was + "Then (suspend):\n  DAY the record is removed (the days of grace are over, after: suspended by hand)"},
		{"due " + g + " --if remove", was + "Then (remove):\n  at once: the record goes, with every role that it holds"},
		{"due " + g + " --if end-grant --on space:loan-dossier", was + "Then (end-grant space:loan-dossier):\n  DAY the grant ends: Loan dossier (its own end)\n" +
			"  DAY the record is suspended (not seen for too long)\n  DAY the record is removed (the days of grace are over, after: not seen for too long)"},
		{"due " + g + " --if end-grant --on space:nothing", "It cannot be done: they hold no grant on space:nothing."},
		{"due " + g + " --if end-partner", was + "Then (end-partner):\n  DAY the record is suspended (the connection with the partner ended)\n" +
			"  DAY the record is removed (the days of grace are over, after: the connection with the partner ended)"},
		{"due " + g + " --if suspend-partner", was + "Then, too: a suspended partner changes no record. Everything refuses at its own gate, and the dates stay."},
		{"due " + g + " --if extend --until +30d", "It cannot be done: their record ends later already."},
		{"due " + g + " --if extend --until 2020-01-01", `wexillum: The request is not valid: until "DAY": it lies before now`},
		{"due " + g + " --if back", "It cannot be done: they are not suspended."},
		{"due " + g + " --if dance", `wexillum: --if "dance": write extend, end-grant, confirm, suspend, back, end, remove, suspend-partner, end-partner`},
		{"due --if suspend", "wexillum: say of whom: due ADDRESS --if suspend"},
		{"due nobody@x.example --if suspend", "wexillum: Not found: there is no record of nobody@x.example"},
	}...)
	if r.must("dump") != dump {
		t.Error("asking what if changed something")
	}
}

// TestSettingActs changes settings from the client, and says what there is where something is misspelt.
func TestSettingActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	r.each([][2]string{
		{"settings set nothing=1", `wexillum: there is no setting "nothing"; wexillum settings show lists them`},
		{"settings set settings.brake", `wexillum: "settings.brake": write SETTING=VALUE`},
		{"settings set settings.brake=many --why x",
			`wexillum: The request is not valid: settings.brake "many": "many" is no number: write 0 to 36500 without leading zeros, or none`},
		{"settings set organisation.time_zone=Europe/Nowhere --why x",
			`wexillum: The request is not valid: organisation.time_zone "Europe/Nowhere": "Europe/Nowhere" is no time zone; write a name as Europe/Lisbon`},
		{"settings set organisation.domains=x..y --why x",
			`wexillum: The request is not valid: organisation.domains "x..y": "x..y" is no domain: a label between two dots is empty (at position 3)`},
		{"webhook add x --name X --address http://a.example/",
			`wexillum: The request is not valid: address "http://a.example/": write https://host/path, without a name and password; http is taken on this machine alone`},
		{"webhook try x", `wexillum: Not found: there is no receiver "x"`},
		{"webhook set x --name Y", `wexillum: Not found: there is no receiver "x"`},
		{"webhook remove x", `wexillum: "remove" is no command of wexillum webhook; see wexillum webhook --help`},
		{"account set rigger --role king", "wexillum: The request is not valid: role: value must be one of 'administrator', 'auditor', 'keeper', 'member'"},
		{"token end nothing", `wexillum: Not found: there is no token "nothing"`},
		{"request show 1", `wexillum: Not found: there is no request "1"`},
		{"review show nothing", `wexillum: Not found: there is no round "nothing"`},
		{"review end nothing --why x", `wexillum: Not found: there is no round "nothing"`},
		{"contact remove uma b@c.example", "contact uma and b@c.example: refused\n  there is no such contact\n\nNothing was changed."},
		{"forwarder remove o.tidewell nobody@x.example", `wexillum: Not found: the mailbox of "o.tidewell" is not forwarded to nobody@x.example`},
	}...)
	was := r.must("settings", "show", "-o", "csv")
	r.says(0, "Published as revision 3.", "settings", "set", "settings.brake=77", "--why", "a quiet week")
	is := r.must("settings", "show", "-o", "csv")
	if lines := diffOf(was, is); !strings.Contains(is, "settings.brake,77,") || strings.Count(lines, "\n") > 4 {
		t.Errorf("one setting was changed:\n%s", lines)
	}
}

// TestReviewActs begins a round, answers some of it and ends it before its day, from the client: who would lose what by silence is
// told before, and a round is found by its name.
func TestReviewActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	r.must("review", "start", "Spring", "--space", "audio-guide", "--until", "+30d", "--why", "every spring")
	id := strings.Fields(r.must("review", "show", "spring"))[0]
	r.each([][2]string{
		{"review show Autumn", `wexillum: Not found: there is no round "Autumn"`},
		{"review answer spring --keep --end", "wexillum: say one of --keep, --narrower ROLE, --item RESOURCE, --end, --hand-over PERSON and --not-mine"},
		{"review answer spring --line 999 --keep", "LINE  WHO  ON  ROLE  WHAT BECAME OF IT\n999  there is no such line\n0 lines answered, 1 not.\nwexillum: nothing was answered"},
		{"review answer spring --line 1 --narrower king", `wexillum: The request is not valid: role "king": write the lower role: view or contribute`},
		{"review end spring", `wexillum: The request is not valid: why "": say why it ends before its day`},
	}...)
	dump := r.must("dump")
	ahead := r.must("review", "end", "spring", "--preview")
	if !strings.Contains(ahead, "As guests.review_silence says, 8 roles would end now.") || !strings.Contains(ahead, "  granted   0 gained, ") || !strings.HasSuffix(ahead, "Nothing is changed yet.\n") ||
		r.must("dump") != dump {
		t.Errorf("before its end:\n%s", ahead)
	}
	said := r.must("review", "end", "spring", "--why", "early")
	if was, _, _ := strings.Cut(ahead, "Nothing is changed yet."); !strings.HasPrefix(said, was) || !strings.Contains(said, id+"  Spring: over") {
		t.Errorf("ended:\n%s\nand before\n%s", said, ahead)
	}
	r.says(1, "the round Spring is over", "review", "end", "spring", "--why", "again")
}

// TestMergeActs merges two records of one person from the client.
func TestMergeActs(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	const one, other = "anouk.carrowby@lab.ilvane.example", "ansel.drummere@ilvane.example"
	r.each([][2]string{
		{"guest merge " + one + " " + other, `wexillum: The request is not valid: reason "": say how you know that they are one person`},
		{"guest merge " + one + " " + one + " --reason x", `wexillum: The request is not valid: into "` + one + `": name two addresses`},
		{"guest merge nobody@x.example " + other + " --reason x", "wexillum: Not found: there is no record of nobody@x.example"},
	}...)
	r.says(0, "would move to "+other+", and "+one+" would be removed.", "guest", "merge", one, other, "--reason", "x", "--preview")
	r.says(0, "moved to "+other+", and "+one+" is removed.", "guest", "merge", one, other, "--reason", "they told us")
	r.says(1, "there is no record of "+one, "guest", "show", one)
}
