package scim

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"strings"
	"testing"
)

// babs is the full user of RFC 7643 §8.2 and §8.3, with made-up names, as a client would send it.
const babs = `{
  "schemas": ["urn:ietf:params:scim:schemas:core:2.0:User", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],
  "id": "not-ours", "externalId": "701984", "userName": "bjensen@ilvane.example",
  "name": {"formatted": "Ms. Ada J Brook, III", "familyName": "Brook", "givenName": "Ada", "middleName": "Jane", "honorificPrefix": "Ms.", "honorificSuffix": "III"},
  "displayName": "Ada Brook", "nickName": "Ada", "profileUrl": "https://login.ilvane.example/bjensen",
  "emails": [{"value": "bjensen@ilvane.example", "type": "work", "primary": true}, {"value": "ada@home.example", "type": "home"}],
  "addresses": [{"streetAddress": "100 Quay", "locality": "Port", "region": "CA", "postalCode": "91608", "country": "PT", "formatted": "100 Quay\nPort", "type": "work", "primary": true}],
  "phoneNumbers": [{"value": "555-555-5555", "type": "work"}, {"value": "555-555-4444", "type": "mobile"}],
  "ims": [{"value": "someaimhandle", "type": "aim"}],
  "photos": [{"value": "https://photos.example/F", "type": "photo"}],
  "userType": "Employee", "title": "Tour Guide", "preferredLanguage": "en-US", "locale": "en-US", "timezone": "Europe/Lisbon", "active": true, "password": "t1meMa$heen",
  "groups": [{"value": "e9e30dba", "display": "Tour Guides"}],
  "x509Certificates": [{"value": "MIIDQzCCAqygAwIBAgICEAAwDQYJKoZIhvcNAQEFBQAwTjELMAkGA1UEBhMCVVMx"}],
  "meta": {"resourceType": "User", "version": "W/\"a330bc54f0671c9\""}, "unknownThing": 7,
  "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"employeeNumber": "701984", "costCenter": "4130", "organization": "Ilvane", "division": "Loans", "department": "Tour Operations", "manager": {"value": "26118915", "$ref": "../Users/26118915", "displayName": "Sten"}}
}`

func ada(t *testing.T) User {
	t.Helper()
	u, err := Read([]byte(babs))
	if err != nil {
		t.Fatal(err)
	}
	return u
}

func jsonOf(t *testing.T, v any) string {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// TestRead reads users as clients send them: what is read-only, secret or unknown is left out, names are taken in any case, and what is
// wrong is said with the attribute.
func TestRead(t *testing.T) {
	u := ada(t)
	for _, gone := range []string{"id", "meta", "password", "groups", "unknownThing", "schemas"} {
		if _, ok := u[gone]; ok {
			t.Errorf("it keeps %s", gone)
		}
	}
	if got := jsonOf(t, u[EnterpriseSchema]); strings.Contains(got, "Sten") ||
		!strings.Contains(got, `"manager":{"$ref":"../Users/26118915","value":"26118915"}`) {
		t.Errorf("the extension: %s", got)
	}
	if u.Text("name.formatted") != "Ms. Ada J Brook, III" || u.Primary("emails", "value") != "bjensen@ilvane.example" || !u.Active() ||
		u.Text("externalId") != "701984" {
		t.Errorf("read as %s", jsonOf(t, u))
	}
	const user = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],`
	for in, want := range map[string]string{
		`[]`:                        "invalidSyntax the body is no JSON object",
		`{"userName":"x"}`:          "invalidSyntax schemas does not name " + UserSchema,
		user + `"userName":" "}`:    "invalidValue userName is missing",
		user + `"displayName":"x"}`: "invalidValue userName is missing",
		user + `"userName":7}`:      "invalidValue userName: 7 is no text",
		user +
			`"userName":"x","active":"maybe"}`: `invalidValue active: "maybe" is no boolean; write true or false`,
		user +
			`"userName":"x","name":"y"}`: `invalidValue name: "y" is no object`,
		user +
			`"userName":"x","emails":[{"value":"a","primary":true},{"value":"b","primary":true}]}`: "invalidValue emails: at most one value is primary, not 2",
		user +
			`"userName":"x","emails":[{"value":1}]}`: "invalidValue emails.value: 1 is no text",
		user +
			`"userName":"x","x509Certificates":[{"value":"%"}]}`: `invalidValue x509Certificates.value: "%" is no base64`,
		user +
			`"userName":"x","USERNAME":"y"}`: "invalidSyntax userName stands there twice",
		user + `"userName":"x","` + EnterpriseSchema + `":"y"}`: "invalidValue " +
			EnterpriseSchema + " is no object",
		user +
			`"USERNAME":"x","Emails":["a@b.example"],"ACTIVE":"False","NAME":{"givenname":"Y"},"title":null,"roles":[]}`: `{"active":false,"emails":[{"value":"a@b.example"}],"name":{"givenName":"Y"},"userName":"x"}`,
	} {
		u, err := Read([]byte(in))
		got := ""
		if err != nil {
			got = err.Type + " " + err.Detail
		} else {
			got = jsonOf(t, u)
		}
		if !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", in, got, want)
		}
	}
}

// TestFilter asks the filters of RFC 7644 §3.4.2.2 and every operator, on one user.
func TestFilter(t *testing.T) {
	m := &Meta{ID: "2819c223", Version: 3, Location: "https://here.example/Users/2819c223"}
	m.Modified = m.Modified.AddDate(2025, 10, 1)
	r := ada(t).Resource(m)
	yes := []string{
		`userName Eq "BJENSEN@ilvane.example"`, `name.familyName co "roo"`, `userName sw "B"`,
		`urn:ietf:params:scim:schemas:core:2.0:User:userName sw "b"`, `title pr`, `meta.lastModified gt "2011-05-13T04:42:34Z"`,
		`meta.lastModified ge "2026-01-01T01:00:00+01:00"`, `title pr and userType eq "Employee"`, `title pr or userType eq "Intern"`,
		`schemas eq "` + EnterpriseSchema + `"`,
		`userType eq "Employee" and (emails co "ilvane.example" or emails.value co "x.example")`,
		`userType ne "Boss" and not (emails co "nowhere.example")`,
		`userType eq "Employee" and (emails.type eq "work")`, `userType eq "Employee" and emails[type eq "work" and value co "@ilvane.example"]`,
		`emails[type eq "work" and value co "@ilvane.example"] or ims[type eq "xmpp" and value co "@foo.com"]`, `active eq true`,
		`active ne false`, `id eq "2819c223"`, `externalId eq "701984"`,
		EnterpriseSchema + `:department eq "tour operations"`, EnterpriseSchema + `:manager.value eq "26118915"`, `nickName eq "\u0041da"`,
		`unheard ne "x"`, `unheard eq null`, `displayName gt "Aaa"`, `displayName le "ADA BROOK"`, `userName ew ".EXAMPLE"`,
		`emails[primary eq true].value pr`, `name pr`, `phoneNumbers[not (type eq "work")]`, `addresses.country eq "pt"`,
		`title eq "Tour Guide" or title eq "x" and title eq "y"`, `USERNAME eq "bjensen@ilvane.example"`,
	}
	no := []string{
		`userName eq "other"`, `externalId eq "70198"`, `id eq "2819C223"`, `password pr`,
		`emails[type eq "home" and value co "@ilvane.example"]`, `not (title pr)`, `active eq false`, `title eq null`, `unheard pr`,
		`unheard eq "x"`, `meta.lastModified lt "2011-05-13T04:42:34Z"`,
		`nickName lt "Ada"`, `schemas eq "urn:x"`, `ims[type eq "xmpp" and value co "x"]`, `x509Certificates.value sw "zzz"`, `groups pr`,
	}
	for want, list := range map[bool][]string{true: yes, false: no} {
		for _, text := range list {
			text = strings.TrimSuffix(text, ".value pr")
			f, err := ParseFilter(text)
			if text == "password pr" {
				if err == nil || err.Type != Sensitive {
					t.Errorf("%s: %v", text, err)
				}
				continue
			}
			if err != nil {
				t.Errorf("%s: %v", text, err)
			} else if f.Match(r) != want {
				t.Errorf("%s is not %t", text, want)
			}
		}
	}
	for text, want := range map[string]string{
		`userName eq`: "cannot be read", `userName = "x"`: "cannot be read", `(title pr`: "cannot be read", `title pr and`: "cannot be read",
		`name eq "x"`:    "name has parts: name one of them",
		`active gt true`: "neither larger nor smaller", `meta.lastModified gt "soon"`: `"soon" is no moment`,
		`title gt null`: "null is only equal or not", `userName[type eq "x"]`: "has no parts to be asked",
		strings.Repeat("title pr and ", 400) + "title pr": "longer than 4000",
	} {
		if _, err := ParseFilter(text); err == nil || !strings.Contains(err.Detail, want) || err.Type != InvalidFilter || err.Status != 400 {
			t.Errorf("%s: %+v, want %q", text, err, want)
		}
	}
	for text, want := range map[string]string{`userName eq "x"`: "x", `title pr and userName eq "x"`: "x", `userName eq "x" or title pr`: "",
		`not (userName eq "x")`: "", `userName sw "x"`: ""} {
		f, err := ParseFilter(text)
		if err != nil {
			t.Fatal(err)
		}
		if got, _ := f.Equals("userName"); got != want {
			t.Errorf("%s demands %q", text, got)
		}
	}
}

// TestPatch applies the changes of RFC 7644 §3.5.2 and what clients make of them, and refuses what is wrong without changing anything.
func TestPatch(t *testing.T) {
	for _, c := range []struct{ ops, show, want string }{
		{`{"op":"add","value":{"emails":[{"value":"b@x.example","type":"other"}],"nickName":"Babs"}}`, "emails nickName",
			`[{"primary":true,"type":"work","value":"bjensen@ilvane.example"},{"type":"home","value":"ada@home.example"},{"type":"other","value":"b@x.example"}] "Babs"`},
		{`{"op":"add","path":"emails","value":[{"value":"b@x.example","primary":true}]}`, "emails",
			`[{"primary":false,"type":"work","value":"bjensen@ilvane.example"},{"type":"home","value":"ada@home.example"},{"primary":true,"value":"b@x.example"}]`},
		{`{"op":"add","path":"emails","value":[{"value":"ada@home.example","type":"home"}]}`, "emails",
			`[{"primary":true,"type":"work","value":"bjensen@ilvane.example"},{"type":"home","value":"ada@home.example"}]`},
		{`{"op":"remove","path":"emails[type eq \"work\"]"}`, "emails", `[{"type":"home","value":"ada@home.example"}]`},
		{`{"op":"remove","path":"emails[type eq \"work\" and value ew \"ilvane.example\"]"}`, "emails",
			`[{"type":"home","value":"ada@home.example"}]`},
		{`{"op":"remove","path":"emails"}`, "emails", `null`},
		{`{"op":"remove","path":"emails","value":[{"value":"ada@home.example"}]}`, "emails",
			`[{"primary":true,"type":"work","value":"bjensen@ilvane.example"}]`},
		{`{"op":"remove","path":"name.middleName"}`, "name",
			`{"familyName":"Brook","formatted":"Ms. Ada J Brook, III","givenName":"Ada","honorificPrefix":"Ms.","honorificSuffix":"III"}`},
		{`{"op":"replace","path":"addresses[type eq \"work\"]","value":{"type":"work","country":"ES"}}`, "addresses",
			`[{"country":"ES","type":"work"}]`},
		{`{"op":"replace","path":"addresses[type eq \"work\"].country","value":"ES"}`, "addresses",
			`[{"country":"ES","formatted":"100 Quay\nPort","locality":"Port","postalCode":"91608","primary":true,"region":"CA","streetAddress":"100 Quay","type":"work"}]`},
		{`{"op":"replace","path":"emails[type eq \"home\"].primary","value":true}`, "emails",
			`[{"primary":false,"type":"work","value":"bjensen@ilvane.example"},{"primary":true,"type":"home","value":"ada@home.example"}]`},
		{`{"op":"add","path":"phoneNumbers[type eq \"fax\"].value","value":"555"}`, "phoneNumbers",
			`[{"type":"work","value":"555-555-5555"},{"type":"mobile","value":"555-555-4444"},{"type":"fax","value":"555"}]`},
		{`{"op":"Replace","path":"active","value":"False"}`, "active", `false`},
		{`{"op":"replace","value":{"active":false,"name.givenName":"Eva","id":"x","meta":{},"unheard":1}}`, "active name",
			`false {"familyName":"Brook","formatted":"Ms. Ada J Brook, III","givenName":"Eva","honorificPrefix":"Ms.","honorificSuffix":"III","middleName":"Jane"}`},
		{`{"op":"replace","path":"name","value":{"givenName":"Eva"}}`, "name",
			`{"familyName":"Brook","formatted":"Ms. Ada J Brook, III","givenName":"Eva","honorificPrefix":"Ms.","honorificSuffix":"III","middleName":"Jane"}`},
		{`{"op":"add","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department","value":"Quay"}`, EnterpriseSchema,
			`{"costCenter":"4130","department":"Quay","division":"Loans","employeeNumber":"701984","manager":{"$ref":"../Users/26118915","value":"26118915"},"organization":"Ilvane"}`},
		{`{"op":"remove","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"}`, EnterpriseSchema, `null`},
		{`{"op":"replace","value":{"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"costCenter":"1"}}}`, EnterpriseSchema,
			`{"costCenter":"1","department":"Tour Operations","division":"Loans","employeeNumber":"701984","manager":{"$ref":"../Users/26118915","value":"26118915"},"organization":"Ilvane"}`},
		{`{"op":"replace","path":"title","value":null}`, "title", `null`},
		{`{"op":"replace","path":"externalId","value":"9"},{"op":"add","path":"externalId","value":"10"}`, "externalId", `"10"`},
		{`{"op":"replace","path":"password","value":"x"}`, "password", `null`},

		{`{"op":"remove"}`, "", `noTarget remove says which attribute`},
		{`{"op":"move","path":"title"}`, "", `invalidSyntax op "move": write add, remove or replace`},
		{`{"op":"replace","path":"title"}`, "", `invalidSyntax replace has no value`},
		{`{"op":"replace","path":"title[","value":"x"}`, "", `invalidPath path "title[" cannot be read`},
		{`{"op":"replace","path":"unheard","value":"x"}`, "", `invalidPath path "unheard": there is no such attribute`},
		{`{"op":"replace","path":"name.unheard","value":"x"}`, "", `invalidPath path "name.unheard": there is no such attribute`},
		{`{"op":"replace","path":"id","value":"x"}`, "", `mutability id cannot be changed`},
		{`{"op":"replace","path":"groups","value":[]}`, "", `mutability groups cannot be changed`},
		{`{"op":"remove","path":"userName"}`, "", `mutability userName is needed and cannot be taken away`},
		{`{"op":"replace","path":"userName","value":""}`, "", `invalidValue userName is missing`},
		{`{"op":"replace","path":"emails[type eq \"other\"].value","value":"x"}`, "", `noTarget path`},
		{`{"op":"remove","path":"emails[type eq \"other\"]"}`, "", `noTarget path`},
		{`{"op":"add","path":"phoneNumbers[type ne \"fax\" and value eq \"1\"].value","value":"555"}`, "", `noTarget path`},
		{`{"op":"replace","path":"title[value eq \"x\"]","value":"x"}`, "", `invalidPath`},
		{`{"op":"replace","path":"active","value":"perhaps"}`, "", `invalidValue active: "perhaps" is no boolean`},
		{`{"op":"replace","value":"x"}`, "", `invalidValue without a path the value is an object of attributes`},
		{`{"op":"replace","path":"title","value":"Boss"},{"op":"replace","path":"id","value":"x"}`, "", `mutability`},
	} {
		u := ada(t)
		before := jsonOf(t, u)
		got := ""
		ops, err := ReadPatch([]byte(`{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[` + c.ops + `]}`))
		if err == nil {
			var next User
			if next, err = u.Patch(ops); err == nil {
				var parts []string
				for _, name := range strings.Fields(c.show) {
					parts = append(parts, jsonOf(t, next[name]))
				}
				got = strings.Join(parts, " ")
				if got != c.want {
					t.Errorf("%s:\n%s, want\n%s", c.ops, got, c.want)
				}
			}
		}
		if err != nil {
			if got = err.Type + " " + err.Detail; c.show != "" || !strings.HasPrefix(got, c.want) {
				t.Errorf("%s: %s, want %s", c.ops, got, c.want)
			}
		}
		if jsonOf(t, u) != before {
			t.Errorf("%s changed what was there", c.ops)
		}
	}
	for in, want := range map[string]string{`{`: "no change of a resource", `{"Operations":[]}`: "schemas does not name",
		`{"schemas":["` + PatchMessage + `"],"Operations":[]}`: "holds 1 to 1000"} {
		if _, err := ReadPatch([]byte(in)); err == nil || !strings.Contains(err.Detail, want) {
			t.Errorf("%s: %v", in, err)
		}
	}
}

// TestProject asks for some attributes, and for all but some.
func TestProject(t *testing.T) {
	r := ada(t).Resource(&Meta{ID: "7", Version: 1})
	for _, c := range []struct{ only, but, want string }{
		{"userName", "", `{"id":"7","schemas":["` + UserSchema + `","` + EnterpriseSchema + `"],"userName":"bjensen@ilvane.example"}`},
		{"NAME.familyName,emails.type", "", `{"emails":[{"type":"work"},{"type":"home"}],"id":"7","name":{"familyName":"Brook"},"schemas":["` +
			UserSchema + `","` + EnterpriseSchema + `"]}`},
		{EnterpriseSchema + ":department", "", `{"id":"7","schemas":["` + UserSchema + `","` + EnterpriseSchema + `"],"` + EnterpriseSchema +
			`":{"department":"Tour Operations"}}`},
		{"unheard", "", `{"id":"7","schemas":["` + UserSchema + `","` + EnterpriseSchema + `"]}`},
	} {
		var only []string
		if c.only != "" {
			only = strings.Split(c.only, ",")
		}
		got, err := Project(r, only, nil)
		if err != nil || jsonOf(t, got) != c.want {
			t.Errorf("%s: %s %v", c.only, jsonOf(t, got), err)
		}
	}
	got, err := Project(r, nil, []string{"emails", "name.formatted", "id", EnterpriseSchema + ":manager", "x509Certificates", "photos"})
	if err != nil || got["emails"] != nil || got["id"] != "7" || got["name"].(map[string]any)["formatted"] != nil ||
		got["name"].(map[string]any)["givenName"] != "Ada" || got[EnterpriseSchema].(map[string]any)["manager"] != nil {
		t.Errorf("all but some: %s %v", jsonOf(t, got), err)
	}
	if r["emails"] == nil || r["name"].(map[string]any)["formatted"] == nil || r[EnterpriseSchema].(map[string]any)["manager"] == nil {
		t.Error("what is left out of an answer is gone from the resource")
	}
	if _, err := Project(r, []string{"a"}, []string{"b"}); err == nil {
		t.Error("both at once")
	}
	for by, want := range map[string]string{"userName": "bjensen@ilvane.example", "name.familyName": "brook",
		"emails": "bjensen@ilvane.example", "active": "1", "title": "tour guide"} {
		if got, err := SortKey(r, by); err != nil || got != want {
			t.Errorf("sorted by %s: %q %v", by, got, err)
		}
	}
	if _, err := SortKey(r, "name"); err == nil {
		t.Error("sorted by what has parts")
	}
}

// TestRandomChanges makes thousands of changes, right and wrong ones, from a few words: nothing panics, what comes out is read again as
// it is, at most one value is primary, and a user always has a name.
func TestRandomChanges(t *testing.T) {
	seed := rand.Uint64()
	rnd := rand.New(rand.NewPCG(seed, 1))
	pick := func(list ...string) string { return list[rnd.IntN(len(list))] }
	rounds := 5_000
	if os.Getenv("CI") != "" {
		rounds = 2_000
	}
	good := 0
	u := ada(t)
	for range rounds {
		path := pick("userName", "name", "name.givenName", "emails", "emails.value", `emails[type eq "work"]`, `emails[type eq "home"].value`,
			`emails[primary eq true].primary`, `addresses[type eq "work" and country pr]`, "active", "title", "", "unheard", "meta",
			EnterpriseSchema, EnterpriseSchema+":manager.value", "x509Certificates", `emails[`, "photos")
		v := pick(`"x"`, `true`, `"False"`, `null`, `[]`, `{}`, `{"value":"y","primary":true}`,
			`[{"value":"z","type":"work","primary":true},{"value":"w"}]`, `{"active":false,"title":"T"}`, `{"emails":[{"value":"q"}]}`, `7`,
			`{"givenName":"G","type":"work"}`, `[["x"]]`, `{"userName":"u","`+EnterpriseSchema+`":{"department":"D"}}`)
		op := Operation{pick("add", "remove", "replace", "Add", "move"), path, json.RawMessage(v)}
		next, err := u.Patch([]Operation{op})
		if err != nil {
			if err.Status != 400 || err.Type == "" || err.Detail == "" {
				t.Fatalf("seed %d: %+v: %+v", seed, op, err)
			}
			continue
		}
		good++
		if list, _ := next["emails"].([]any); primaries(list) > 1 {
			t.Fatalf("seed %d: %+v makes several primary: %s", seed, op, jsonOf(t, next))
		}
		r := next.Resource(&Meta{ID: "1"})
		again, err := Read([]byte(jsonOf(t, r)))
		if err != nil {
			t.Fatalf("seed %d: %+v makes what cannot be read: %v\n%s", seed, op, err, jsonOf(t, next))
		}
		if delete(again, "active"); next["active"] != nil {
			again["active"] = next["active"]
		}
		if a, b := jsonOf(t, again), jsonOf(t, next); a != b {
			t.Fatalf("seed %d: %+v: read again as\n%s\nnot\n%s", seed, op, a, b)
		}
		if f, err := ParseFilter(fmt.Sprintf(`%s %s %s`, pick("userName", "emails", "emails.type", "active", "name.givenName", "title"),
			pick("eq", "ne", "co", "pr or title eq"), pick(`"x"`, `true`, `"work"`))); err == nil {
			f.Match(r)
		}
		if u = next; rnd.IntN(20) == 0 {
			u = ada(t)
		}
	}
	if good < rounds/10 {
		t.Errorf("only %d of %d changes were right", good, rounds)
	}
	if !reflect.DeepEqual(ada(t), ada(t).Clone()) {
		t.Error("a copy differs")
	}
}

// FuzzFilter reads any text as a filter.
func FuzzFilter(f *testing.F) {
	f.Add(`emails[type eq "work" and value co "@x"] or not (title pr)`)
	r := User{"userName": "x", "emails": []any{map[string]any{"value": "a"}}}.Resource(&Meta{})
	f.Fuzz(func(t *testing.T, text string) {
		if x, err := ParseFilter(text); err == nil {
			x.Match(r)
			x.Equals("userName")
		}
	})
}
