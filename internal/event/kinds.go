package event

// Kinds lists the kinds of entry of the journal, in the order in which they are offered: policy, inventory, people, what was carried out,
// and the rest.
var Kinds = []string{
	"rule", "partner", "bar", "exception", "personal", "organisation", "settings", "person", "group", "space", "item", "domain_list",
	"meeting", "guest", "grant", "link",
	"forwarder", "contact", "stance", "account", "token", "import", "draft", "request", "letter", "statement", "step", "invitation", "wish",
	"reminder", "offer",
	"sign_in", "sessions", "forgotten", "let_go", "system", "system_setting", "system_record", "trial", "trial_plan", "brake", "bundle",
	"holding", "acceptance", "round", "review",
	"absence", "expectation", Judgement, Noticed, "evidence", "evidence_plan", "feed", "fed", "feed_out", "sent", "told", "webhook",
	"house_sign_in",
	"second_factor", "passkey", "signing_key", "dates_from", "backup", "restored",
}
