package catalogue

import (
	_ "embed" // the example world below
)

// Examples: for each rule a question that turns on it, for each action one that
// is answered yes and one that is answered no, all asked in one small world.
// They are shown beside the rule or action, and a test asks each of them, so
// that an example that is shown is true.

// ExampleWorld is the world that the examples of rules and actions are asked in,
// in the file format. Every rule stands at its loosest there, so that an example
// turns on its own rule alone.
//
//go:embed example.yaml
var ExampleWorld string

// Example is a question that turns on one rule: with the tight value it is
// answered one way, with the loose one another way. The docs show it, and a
// test asks it with both values: an example that no longer turns on its rule
// fails the build.
type Example struct {
	With         string // a part of a world laid over ExampleWorld, or empty
	Ask          string // WHO ACTION RESOURCE and context; empty for a rule that no action asks
	Tight, Loose string // values, as words
	Then, Else   string // what is answered with Tight, and with Loose
}

// ExampleOf returns the example of a rule.
func ExampleOf(r RuleID) Example { return ruleExamples[r.String()] }

// ActionExample is a question that is answered yes and one that is answered no.
type ActionExample struct{ Yes, YesWith, No, NoGate string }

// ExampleOfAction returns the examples of an action.
func ExampleOfAction(a ActionID) ActionExample { return actionExamples[a.String()] }

// Where chat across organisations is closed, a guest has the record alone.
const recordOnly = "rules: {chat.federation: {default: closed}}"

// Rules about a guest's life and behaviour that no action asks have values
// alone.
var ruleExamples = map[string]Example{
	"directory.guests": {"", "maren@ilvane.example directory.sign_in directory:ours", "off", "on", "no: service", "yes"},
	"directory.invite_by": {"", "person:lars directory.invite directory:ours address=new@ilvane.example", "introducers", "staff",
		"no: rule", "yes: counterpart_unconfirmed"},
	"directory.invite_domains": {"", "person:uma directory.invite directory:ours address=new@unlisted.example", "listed", "any", "no: domain",
		"yes"},
	"directory.personal": {"", "person:uma directory.invite directory:ours address=new@homepost.example", "off", "on", "no: rule",
		"yes"},
	"directory.self_signup":  {"", "new@ilvane.example directory.sign_up directory:ours", "off", "on", "no: service", "yes: sign_in"},
	"directory.people_seen":  {"", "maren@ilvane.example directory.look_up person:lars", "shared", "all", "no: rule", "yes"},
	"directory.profile_seen": {"", "", "name", "contact", "", ""},
	"directory.leave":        {"", "maren@ilvane.example directory.leave directory:ours", "off", "on", "no: rule", "yes"},
	"directory.sign_in": {"", "solo@unlisted.example directory.sign_in directory:ours", "partner", "code", "no: identity",
		"yes: one_time_code"},
	"directory.terms":    {"", "maren@ilvane.example spaces.enter space:dossier", "required", "optional", "yes: accept_terms", "yes"},
	"directory.consent":  {"", "", "ask", "silent", "", ""},
	"directory.feed_in":  {"", "fed@ilvane.example directory.sign_in directory:ours", "off", "on", "no: service", "yes"},
	"directory.feed_out": {"", "", "off", "on", "", ""},
	"directory.guest_elsewhere": {"", "person:uma directory.accept_theirs person:uma address=host@unlisted.example", "listed", "any",
		"no: domain", "yes"},
	"guests.sponsor":          {"", "", "required", "optional", "", ""},
	"guests.term_days":        {"", "", "180", "365", "", ""},
	"guests.extend_days":      {"", "", "90", "180", "", ""},
	"guests.idle_days":        {"", "", "60", "90", "", ""},
	"guests.invite_days":      {"", "", "7", "14", "", ""},
	"guests.after_last_grant": {"", "", "suspend", "keep", "", ""},
	"guests.grace_days":       {"", "", "14", "30", "", ""},
	"guests.review_days":      {"", "", "90", "180", "", ""},
	"guests.review_silence":   {"", "", "end", "keep", "", ""},
	"guests.warn_days":        {"", "", "7", "14", "", ""},
	"spaces.guests": {"rules: {spaces.connect: {default: closed}}", "maren@ilvane.example spaces.enter space:dossier", "off", "on",
		"no: service", "yes"},
	"spaces.connect": {"", "hana@ilvane.example spaces.enter space:dossier", "closed", "listed", "no: domain",
		"yes: counterpart_unconfirmed"},
	"spaces.join_in": {"", "student@unlisted.example spaces.join space:course", "listed", "any", "no: domain", "yes"},
	"spaces.join_out": {"", "person:uma spaces.join_theirs person:uma address=host@unlisted.example", "listed", "any", "no: domain",
		"yes"},
	"spaces.members_seen": {"", "maren@ilvane.example spaces.see_members space:dossier", "off", "on", "no: rule", "yes"},
	"spaces.pages":        {"", "maren@ilvane.example spaces.edit_page page:notes", "off", "on", "no: rule", "yes"},
	"spaces.tasks":        {"", "maren@ilvane.example spaces.edit_task tasklist:chores", "off", "on", "no: rule", "yes"},
	"spaces.channels":     {"", "maren@ilvane.example spaces.open_channel space:dossier", "off", "on", "no: rule", "yes"},
	"chat.federation":     {"", "new@unlisted.example chat.message person:uma", "listed", "any", "no: domain", "yes"},
	"chat.personal":       {"", "new@homepost.example chat.message person:uma", "off", "on", "no: service", "yes"},
	"chat.calls":          {"", "new@ilvane.example chat.call person:uma", "off", "on", "no: rule", "yes: counterpart_unconfirmed"},
	"chat.guests":         {recordOnly, "maren@ilvane.example chat.message person:uma", "off", "on", "no: service", "yes"},
	"chat.guest_direct":   {recordOnly, "maren@ilvane.example chat.message person:uma", "off", "on", "no: rule", "yes"},
	"chat.guest_calls":    {recordOnly, "maren@ilvane.example chat.call person:uma", "off", "on", "no: rule", "yes"},
	"chat.guest_edit":     {"", "maren@ilvane.example chat.edit_own channel:talk", "off", "on", "no: rule", "yes"},
	"chat.guest_delete":   {"", "maren@ilvane.example chat.delete_own channel:talk", "off", "on", "no: rule", "yes"},
	"chat.guest_attach":   {"", "maren@ilvane.example chat.attach person:uma", "off", "on", "no: rule", "yes"},
	"chat.presence":       {recordOnly, "maren@ilvane.example chat.see_presence person:uma", "contacts", "everybody", "no: rule", "yes"},
	"chat.push":           {"", "", "off", "on", "", ""},
	"meetings.outsiders": {"", "new@unlisted.example meetings.join meeting:talk-hour", "known", "signed_in", "no: rule",
		"yes: sign_in"},
	"meetings.held": {"", "maren@ilvane.example meetings.join meeting:talk-hour", "everybody", "nobody",
		"yes: held_until_admitted", "yes"},
	"meetings.passcode":      {"", "maren@ilvane.example meetings.join meeting:talk-hour", "required", "optional", "no: rule", "yes"},
	"meetings.early":         {"", "maren@ilvane.example meetings.join_early meeting:talk-hour", "off", "on", "no: rule", "yes"},
	"meetings.standing_room": {"", "maren@ilvane.example meetings.join meeting:room", "off", "on", "no: rule", "yes"},
	"meetings.share_screen": {"", "maren@ilvane.example meetings.remote_control meeting:talk-hour", "window", "screen", "no: rule",
		"yes: presenter_asked"},
	"meetings.present": {"", "maren@ilvane.example meetings.present meeting:talk-hour", "off", "on", "no: rule", "yes"},
	"meetings.remote_control": {"", "maren@ilvane.example meetings.remote_control meeting:talk-hour", "off", "on", "no: rule",
		"yes: presenter_asked"},
	"meetings.guest_start": {"", "maren@ilvane.example meetings.start meeting:dossier-call", "off", "on", "no: rule", "yes"},
	"meetings.out": {"", "person:uma meetings.join_theirs person:uma address=host@unlisted.example", "listed", "any",
		"no: domain", "yes"},
	"files.given_to": {"", "hana@ilvane.example files.open file:kit", "known", "newcomers", "no: rule",
		"yes: sign_in becomes_guest"},
	"files.bearer_links": {"", "link:kit-link files.open file:kit", "off", "on", "no: rule", "yes"},
	"files.drive_given_to": {"", "hana@ilvane.example files.open file:letter", "known", "newcomers", "no: rule",
		"yes: sign_in becomes_guest"},
	"files.drive_bearer_links": {"", "link:letter-link files.open file:letter", "off", "on", "no: rule", "yes"},
	"files.domains":            {"", "solo@unlisted.example files.open file:kit", "listed", "any", "no: domain", "yes: one_time_code"},
	"files.role":               {"", "maren@ilvane.example files.edit file:kit", "view", "contribute", "no: rule", "yes"},
	"files.reshare":            {"", "maren@ilvane.example files.share file:kit address=hana@ilvane.example", "off", "on", "no: rule", "yes"},
	"files.link_right":         {"", "link:kit-link files.edit file:kit", "view", "contribute", "no: grant", "yes"},
	"files.link_days":          {"", "link:kit-link files.open file:kit", "14", "90", "no: grant", "yes"},
	"files.link_password":      {"", "link:kit-link files.open file:kit", "required", "optional", "no: rule", "yes"},
	"files.link_download":      {"", "link:kit-link files.download file:kit", "off", "on", "no: rule", "yes"},
	"mail.forward": {"", "person:uma mail.forward mailbox:uma address=uma@homepost.example", "listed", "any", "no: domain",
		"yes"},
	"mail.forward_copy": {"", "person:uma mail.forward mailbox:uma address=uma@homepost.example keep_copy=no", "required", "optional",
		"no: rule", "yes"},
	"mail.forward_set_by": {"", "person:lars mail.forward mailbox:lars address=lars@homepost.example", "administrators", "staff",
		"no: rule", "yes"},
	"mail.calendar": {"", "new@ilvane.example mail.see_subject calendar:uma", "busy", "subject", "no: rule", "yes"},
	"reports.share_by": {"", "person:lars reports.share report:visits address=maren@ilvane.example", "sharers", "staff", "no: rule",
		"yes"},
	"reports.given_to": {"", "hana@ilvane.example reports.view report:visits", "known", "newcomers", "no: rule",
		"yes: sign_in becomes_guest"},
	"reports.guest_edit":   {"", "maren@ilvane.example reports.edit report:visits", "off", "on", "no: rule", "yes"},
	"reports.guest_browse": {"", "maren@ilvane.example reports.browse report:visits", "off", "on", "no: rule", "yes"},
	"reports.reshare": {"", "maren@ilvane.example reports.share report:visits address=hana@ilvane.example", "off", "on", "no: rule",
		"yes"},
	"reports.export":  {"", "maren@ilvane.example reports.export report:visits", "off", "on", "no: rule", "yes"},
	"reports.licence": {"", "maren@ilvane.example reports.view report:visits", "ours", "house", "no: licence", "yes"},
}

// actionExamples are the examples of actions, by name. Yes and No are questions
// as ask takes them; YesWith is what has to be set for the yes; NoGate is the
// gate that refuses the no.
var actionExamples = map[string]ActionExample{
	"directory.sign_in": {"maren@ilvane.example directory.sign_in directory:ours", "",
		"cargo@marrowby.example directory.sign_in directory:ours", "domain"},
	"directory.leave": {"maren@ilvane.example directory.leave directory:ours", "", "new@ilvane.example directory.leave directory:ours",
		"service"},
	"directory.look_up": {"maren@ilvane.example directory.look_up person:uma", "", "new@ilvane.example directory.look_up person:uma",
		"service"},
	"directory.sign_up": {"new@ilvane.example directory.sign_up directory:ours", "sign_in",
		"maren@ilvane.example directory.sign_up directory:ours", "service"},
	"directory.invite": {"person:uma directory.invite space:dossier address=new@ilvane.example", "counterpart_unconfirmed",
		"person:lars directory.invite space:dossier address=new@ilvane.example", "grant"},
	"directory.accept_theirs": {"person:uma directory.accept_theirs person:uma address=host@ilvane.example", "",
		"person:uma directory.accept_theirs person:uma address=host@marrowby.example", "domain"},
	"spaces.enter": {"maren@ilvane.example spaces.enter space:dossier", "", "solo@unlisted.example spaces.enter space:dossier",
		"grant"},
	"spaces.see_members": {"maren@ilvane.example spaces.see_members space:dossier", "",
		"solo@unlisted.example spaces.see_members space:dossier", "grant"},
	"spaces.edit_page": {"maren@ilvane.example spaces.edit_page page:notes", "", "hana@ilvane.example spaces.edit_page page:notes",
		"grant"},
	"spaces.edit_task": {"maren@ilvane.example spaces.edit_task tasklist:chores", "",
		"hana@ilvane.example spaces.edit_task tasklist:chores", "grant"},
	"spaces.open_channel": {"maren@ilvane.example spaces.open_channel channel:talk", "",
		"hana@ilvane.example spaces.open_channel channel:talk", "grant"},
	"spaces.join": {"student@unlisted.example spaces.join space:course", "", "student@unlisted.example spaces.join space:dossier",
		"grant"},
	"spaces.join_theirs": {"person:uma spaces.join_theirs person:uma address=host@unlisted.example", "",
		"person:uma spaces.join_theirs person:lars address=host@unlisted.example", "grant"},
	"chat.read": {"hana@ilvane.example chat.read channel:talk", "counterpart_unconfirmed",
		"maren@ilvane.example chat.read channel:inner", "grant"},
	"chat.post": {"maren@ilvane.example chat.post channel:talk", "", "hana@ilvane.example chat.post channel:talk", "grant"},
	"chat.message": {"new@ilvane.example chat.message person:uma", "counterpart_unconfirmed",
		"new@marrowby.example chat.message person:uma", "domain"},
	"chat.call":   {"new@unlisted.example chat.call person:uma", "", "new@marrowby.example chat.call person:uma", "domain"},
	"chat.attach": {"maren@ilvane.example chat.attach person:uma", "", "new@ilvane.example chat.attach person:uma", "service"},
	"chat.edit_own": {"maren@ilvane.example chat.edit_own channel:talk", "", "new@ilvane.example chat.edit_own person:uma",
		"service"},
	"chat.delete_own": {"maren@ilvane.example chat.delete_own channel:talk", "", "new@ilvane.example chat.delete_own person:uma",
		"service"},
	"chat.see_presence": {"maren@ilvane.example chat.see_presence person:uma", "", "link:kit-link chat.see_presence person:uma",
		"service"},
	"chat.message_theirs": {"person:uma chat.message_theirs person:uma address=host@ilvane.example", "counterpart_unconfirmed",
		"person:uma chat.message_theirs person:uma address=host@marrowby.example", "domain"},
	"chat.call_theirs": {"person:uma chat.call_theirs person:uma address=friend@homepost.example", "",
		"person:uma chat.call_theirs person:uma address=host@marrowby.example", "domain"},
	"meetings.join": {"link:kit-link meetings.join meeting:talk-hour", "", "new@marrowby.example meetings.join meeting:talk-hour",
		"domain"},
	"meetings.join_early": {"new@unlisted.example meetings.join_early meeting:talk-hour", "",
		"new@marrowby.example meetings.join_early meeting:talk-hour", "domain"},
	"meetings.present": {"maren@ilvane.example meetings.present meeting:talk-hour", "",
		"new@unlisted.example meetings.present meeting:ilvane-call", "domain"},
	"meetings.remote_control": {"maren@ilvane.example meetings.remote_control meeting:talk-hour", "presenter_asked",
		"new@unlisted.example meetings.remote_control meeting:ilvane-call", "domain"},
	"meetings.see_details": {"maren@ilvane.example meetings.see_details meeting:dossier-call", "",
		"maren@ilvane.example meetings.see_details meeting:talk-hour", "grant"},
	"meetings.start": {"maren@ilvane.example meetings.start meeting:dossier-call", "",
		"new@ilvane.example meetings.start meeting:dossier-call", "service"},
	"meetings.join_theirs": {"person:uma meetings.join_theirs person:uma address=host@unlisted.example", "",
		"person:uma meetings.join_theirs person:uma address=host@marrowby.example", "domain"},
	"files.open":     {"link:kit-link files.open file:kit", "", "maren@ilvane.example files.open folder:valuations", "grant"},
	"files.download": {"link:kit-link files.download file:kit", "", "link:kit-link files.download folder:valuations", "grant"},
	"files.edit":     {"maren@ilvane.example files.edit file:kit", "", "hana@ilvane.example files.edit file:kit", "grant"},
	"files.upload":   {"maren@ilvane.example files.upload file:kit", "", "link:kit-link files.upload file:kit", "service"},
	"files.delete":   {"maren@ilvane.example files.delete file:kit", "", "link:kit-link files.delete file:kit", "service"},
	"files.share": {"person:uma files.share file:kit address=new@ilvane.example", "",
		"person:lars files.share file:kit address=new@ilvane.example", "grant"},
	"mail.forward": {"person:uma mail.forward mailbox:uma address=uma@homepost.example", "",
		"person:uma mail.forward mailbox:lars address=uma@homepost.example", "grant"},
	"mail.see_busy": {"new@ilvane.example mail.see_busy calendar:uma", "", "new@unlisted.example mail.see_busy calendar:uma",
		"domain"},
	"mail.see_subject": {"new@ilvane.example mail.see_subject calendar:uma", "", "new@homepost.example mail.see_subject calendar:uma",
		"service"},
	"mail.see_details": {"new@ilvane.example mail.see_details calendar:uma", "", "new@unlisted.example mail.see_details calendar:uma",
		"domain"},
	"reports.view": {"maren@ilvane.example reports.view report:visits", "", "new@unlisted.example reports.view report:visits",
		"grant"},
	"reports.export": {"maren@ilvane.example reports.export report:visits", "", "maren@ilvane.example reports.export dashboard:till",
		"grant"},
	"reports.browse": {"maren@ilvane.example reports.browse report:visits", "", "link:kit-link reports.browse report:visits",
		"service"},
	"reports.edit": {"maren@ilvane.example reports.edit report:visits", "", "hana@ilvane.example reports.edit report:visits",
		"grant"},
	"reports.enter": {"maren@ilvane.example reports.enter space:figures", "", "hana@ilvane.example reports.enter space:figures",
		"grant"},
	"reports.share": {"person:lars reports.share report:visits address=maren@ilvane.example", "",
		"hana@ilvane.example reports.share report:visits address=maren@ilvane.example", "service"},
}
