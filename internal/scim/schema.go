package scim

import "strings"

// Schemas and messages by name.
const (
	UserSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	EnterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	ListMessage      = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	SearchMessage    = "urn:ietf:params:scim:api:messages:2.0:SearchRequest"
	PatchMessage     = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	ErrorMessage     = "urn:ietf:params:scim:api:messages:2.0:Error"

	schemaSchema = "urn:ietf:params:scim:schemas:core:2.0:Schema"
	typeSchema   = "urn:ietf:params:scim:schemas:core:2.0:ResourceType"
	configSchema = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
)

// Attribute is what a schema says of one attribute (RFC 7643 §7).
type Attribute struct {
	Name        string      `json:"name"`
	Type        string      `json:"type"` // string, boolean, dateTime, reference, complex, binary
	Multi       bool        `json:"multiValued"`
	Description string      `json:"description"`
	Required    bool        `json:"required"`
	CaseExact   bool        `json:"caseExact"`
	Mutability  string      `json:"mutability"` // readWrite, readOnly, writeOnly
	Returned    string      `json:"returned"`   // always, default, never
	Uniqueness  string      `json:"uniqueness"`
	Canonical   []string    `json:"canonicalValues,omitempty"`
	References  []string    `json:"referenceTypes,omitempty"`
	Sub         []Attribute `json:"subAttributes,omitempty"`
}

func attr(name, kind, says string) Attribute {
	return Attribute{Name: name, Type: kind, Description: says, Mutability: "readWrite", Returned: "default", Uniqueness: "none"}
}

func text(name, says string) Attribute { return attr(name, "string", says) }

// many is an attribute of several values, each with a kind and one of them primary (RFC 7643 §2.4).
func many(name, says, value string, canonical ...string) Attribute {
	a := attr(name, "complex", says)
	a.Multi = true
	kind := text("type", "What it is for")
	kind.Canonical = canonical
	a.Sub = []Attribute{attr("value", value, "The value"), text("display", "A name for people"), kind,
		attr("primary", "boolean", "Whether it is the first choice; at most one is")}
	return a
}

func exact(a Attribute) Attribute     { a.CaseExact = true; return a }
func readOnly(a Attribute) Attribute  { a.Mutability = "readOnly"; return a }
func always(a Attribute) Attribute    { a.Returned = "always"; return a }
func writeOnly(a Attribute) Attribute { a.Mutability, a.Returned = "writeOnly", "never"; return a }
func required(a Attribute) Attribute {
	a.Required, a.Uniqueness = true, "server"
	return a
}
func complexOf(name, says string, sub ...Attribute) Attribute {
	a := attr(name, "complex", says)
	a.Sub = sub
	return a
}
func refers(a Attribute, to ...string) Attribute {
	a.Type, a.CaseExact, a.References = "reference", true, to
	return a
}

// common are the attributes of every resource (RFC 7643 §3.1), which no schema lists.
var common = []Attribute{
	{Name: "schemas", Type: "reference", Multi: true, CaseExact: true, Mutability: "readWrite", Returned: "always"},
	always(exact(readOnly(text("id", "")))),
	exact(text("externalId", "")),
	readOnly(complexOf("meta", "", text("resourceType", ""), attr("created", "dateTime", ""), attr("lastModified", "dateTime", ""),
		refers(attr("location", "", "")), exact(text("version", "")))),
}

// user are the attributes of a user (RFC 7643 §4.1).
var user = []Attribute{
	required(text("userName", "By which the person signs in where they come from; here an address, or the primary mail counts")),
	complexOf("name", "The parts of the name", text("formatted", "The whole name"), text("familyName", "Family name"),
		text("givenName", "Given name"), text("middleName", "Middle names"), text("honorificPrefix", "A title before the name"),
		text("honorificSuffix", "What follows the name")),
	text("displayName", "The name as others see it"),
	text("nickName", "What they are called"),
	refers(attr("profileUrl", "", "A page about them"), "external"),
	text("title", "What they are there"),
	text("userType", "How they belong there"),
	text("preferredLanguage", "The languages that they read, as an Accept-Language header has it (RFC 9110 §12.5.4)"),
	text("locale", "How numbers and dates are written for them (RFC 5646)"),
	text("timezone", "Their time zone, by its name in the IANA database"),
	attr("active", "boolean", "Whether the account is in use"),
	writeOnly(text("password", "Not taken: nobody signs in here with it")),
	many("emails", "Mail addresses", "string", "work", "home", "other"),
	many("phoneNumbers", "Telephone numbers (RFC 3966)", "string", "work", "home", "mobile", "fax", "pager", "other"),
	many("ims", "Addresses of instant messages", "string"),
	many("photos", "Pictures", "reference", "photo", "thumbnail"),
	addresses(),
	readOnly(many("groups", "Groups to which they belong", "string", "direct", "indirect")),
	many("entitlements", "What they are entitled to there", "string"),
	many("roles", "Their roles there", "string"),
	many("x509Certificates", "Certificates, as DER in base64", "binary"),
}

func addresses() Attribute {
	a := complexOf("addresses", "Postal addresses", text("formatted", "The whole address"), text("streetAddress", "Street and number"),
		text("locality", "Town"), text("region", "Region"), text("postalCode", "Postal code"),
		text("country", "Country, in two letters (ISO 3166-1)"), text("type", "What it is for"),
		attr("primary", "boolean", "Whether it is the first choice"))
	a.Multi, a.Sub[6].Canonical = true, []string{"work", "home", "other"}
	return a
}

// enterprise are the attributes of the extension for organisations (RFC 7643 §4.3).
var enterprise = []Attribute{
	text("employeeNumber", "By which they are known to their organisation"),
	text("costCenter", "Cost center"),
	text("organization", "Organisation"),
	text("division", "Division"),
	text("department", "Department"),
	complexOf("manager", "Who leads them", text("value", "Their id"), refers(attr("$ref", "", "Their address"), "User"),
		readOnly(text("displayName", "Their name"))),
}

// find returns the attribute of a name, which is in any case (RFC 7643 §2.1).
func find(list []Attribute, name string) *Attribute {
	for i := range list {
		if strings.EqualFold(list[i].Name, name) {
			return &list[i]
		}
	}
	return nil
}

// known finds an attribute of a user: of the extension where the schema's name says so.
func known(schema, name string) *Attribute {
	switch {
	case strings.EqualFold(schema, EnterpriseSchema):
		return find(enterprise, name)
	case schema != "" && !strings.EqualFold(schema, UserSchema):
		return nil
	}
	if a := find(common, name); a != nil {
		return a
	}
	return find(user, name)
}

// Schemas are the schemas that are served, as resources (RFC 7643 §7). base is the address of the service.
func Schemas(base string) []map[string]any {
	one := func(id, name, says string, list []Attribute) map[string]any {
		return map[string]any{"schemas": []string{schemaSchema}, "id": id, "name": name, "description": says, "attributes": list,
			"meta": map[string]any{"resourceType": "Schema", "location": base + "/Schemas/" + id}}
	}
	return []map[string]any{one(UserSchema, "User", "A person", user),
		one(EnterpriseSchema, "EnterpriseUser", "A person in an organisation", enterprise)}
}

// ResourceTypes are the kinds of resource that are served (RFC 7643 §6).
func ResourceTypes(base string) []map[string]any {
	return []map[string]any{{"schemas": []string{typeSchema}, "id": "User", "name": "User", "endpoint": "/Users", "description": "People",
		"schema":           UserSchema,
		"schemaExtensions": []any{map[string]any{"schema": EnterpriseSchema, "required": false}},
		"meta":             map[string]any{"resourceType": "ResourceType", "location": base + "/ResourceTypes/User"}}}
}

// Config says what the service can do (RFC 7643 §5). most is how many resources one answer holds.
func Config(base string, most int) map[string]any {
	can := func(yes bool) map[string]any { return map[string]any{"supported": yes} }
	return map[string]any{"schemas": []string{configSchema}, "patch": can(true),
		"bulk":   map[string]any{"supported": false, "maxOperations": 0, "maxPayloadSize": 0},
		"filter": map[string]any{"supported": true, "maxResults": most}, "changePassword": can(false), "sort": can(true), "etag": can(true),
		"authenticationSchemes": []any{map[string]any{"type": "oauthbearertoken", "name": "Bearer token",
			"description": "A token of the feed, as Authorization: Bearer (RFC 6750)", "primary": true}},
		"meta": map[string]any{"resourceType": "ServiceProviderConfig", "location": base + "/ServiceProviderConfig"}}
}
