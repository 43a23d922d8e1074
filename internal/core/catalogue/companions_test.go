package catalogue

import "testing"

// TestCompanions: what alone may change nothing names what is asked beside it, and everyday phrases
// find the rules that are meant.
func TestCompanions(t *testing.T) {
	got := Companions(MustRule("meetings.remote_control"))
	if len(got) != 1 || got[0].String() != "meetings.share_screen" {
		t.Errorf("beside remote control: %v", got)
	}
	for _, c := range []struct{ say, rule string }{
		{"guest access", "directory.guests"}, {"external users", "directory.guests"}, {"wait to be let in", "meetings.held"},
		{"signed-in people of a domain", "meetings.outsiders"}, {"co-teacher", "spaces.join_in"}, {"public messenger", "chat.personal"},
		{"publish a site for suppliers", "files.bearer_links"}, {"one-time code", "directory.sign_in"}, {"sign-in provider", "directory.sign_in"},
		{"blocked domains", "directory.invite_domains"}, {"trust", "directory.invite_domains"}, {"anonymous link", "files.bearer_links"},
		{"auto forward", "mail.forward"}, {"presence", "chat.presence"}, {"screen control", "meetings.remote_control"},
	} {
		found := FindAny(c.say)
		if len(found) == 0 || found[0].Name != c.rule {
			names := []string{}
			for _, r := range found {
				names = append(names, r.Name)
			}
			t.Errorf("%q finds %v, want %s first", c.say, names, c.rule)
		}
	}
	if found := FindAny("zebra"); len(found) != 0 {
		t.Errorf("zebra finds %s", found[0].Name)
	}
}
