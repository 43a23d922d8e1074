package api

import (
	"sort"

	"wexillum.example/internal/service"
)

// access says who may call what: the one table that the guard follows and that
// the tests try against every role. A route that is not in it cannot be called.
// open routes need no sign-in.
type roles []service.Role

var (
	open     = roles(nil)
	everyone = roles{service.Administrator, service.Auditor, service.Keeper, service.Member}
	readers  = roles{service.Administrator, service.Auditor, service.Keeper}
	keepers  = roles{service.Administrator, service.Keeper}
	admins   = roles{service.Administrator}
	editors  = roles{service.Administrator, service.Keeper, service.Member} // what exactly is asked again where it is done
	auditors = roles{service.Administrator, service.Auditor}
	guests   = roles{service.RoleGuest}
)

var access = map[string]roles{
	"GET /api/v1/session":                           append(roles{service.RoleGuest}, everyone...),
	"POST /api/v1/session":                          open,
	"DELETE /api/v1/session":                        append(roles{service.RoleGuest}, everyone...),
	"DELETE /api/v1/sessions":                       append(roles{service.RoleGuest}, everyone...),
	"PUT /api/v1/account/password":                  everyone,
	"POST /api/v1/accounts/{name}/sign-out":         admins,
	"POST /api/v1/tokens":                           open,
	"GET /api/v1/tokens":                            everyone,
	"DELETE /api/v1/tokens/{id}":                    everyone,
	"POST /api/v1/service-tokens":                   admins,
	"GET /api/v1/accounts":                          auditors,
	"PUT /api/v1/accounts/{name}":                   admins,
	"POST /api/v1/ask":                              append(roles{service.Decisions}, everyone...),
	"GET /api/v1/reach":                             append(roles{service.Decisions}, everyone...),
	"GET /api/v1/audience":                          everyone,
	"GET /api/v1/board":                             readers,
	"GET /api/v1/diff":                              everyone,
	"GET /api/v1/report/{what}":                     everyone,
	"GET /api/v1/complete":                          everyone,
	"POST /access/v1/search/subject":                {service.Administrator, service.Auditor, service.Keeper, service.Decisions},
	"POST /access/v1/search/resource":               {service.Administrator, service.Auditor, service.Keeper, service.Decisions},
	"POST /access/v1/search/action":                 {service.Administrator, service.Auditor, service.Keeper, service.Decisions},
	"GET /api/v1/overview":                          readers,
	"GET /api/v1/actions":                           everyone,
	"GET /api/v1/rules":                             readers,
	"GET /api/v1/rules/{rule}":                      readers,
	"PUT /api/v1/rules/{rule}":                      admins,
	"GET /api/v1/partners":                          readers,
	"POST /api/v1/partners":                         keepers,
	"GET /api/v1/partners/{id}":                     readers,
	"PUT /api/v1/partners/{id}":                     keepers,
	"POST /api/v1/partners/{id}/standing":           keepers,
	"POST /api/v1/partners/{id}/domains":            keepers,
	"DELETE /api/v1/partners/{id}/domains/{domain}": keepers,
	"GET /api/v1/bars":                              readers,
	"POST /api/v1/bars":                             keepers,
	"DELETE /api/v1/bars/{key}":                     keepers,
	"POST /api/v1/partners/{id}/merge":              keepers,
	"POST /api/v1/partners/{id}/split":              keepers,
	"GET /api/v1/domains":                           readers,
	"POST /api/v1/domains/import":                   keepers,
	"GET /api/v1/domains/test":                      readers,
	"GET /api/v1/choices":                           everyone,
	"GET /api/v1/values/{where}":                    everyone,
	"PUT /api/v1/values/{where}/{rule}":             editors,
	"DELETE /api/v1/values/{where}/{rule}":          editors,
	"GET /api/v1/exceptions":                        readers,
	"POST /api/v1/exceptions":                       admins,
	"POST /api/v1/exceptions/import":                admins,
	"GET /api/v1/exceptions/{id}":                   readers,
	"PUT /api/v1/exceptions/{id}":                   admins,
	"POST /api/v1/exceptions/{id}/end":              admins,
	"POST /api/v1/exceptions/{id}/prolong":          admins,
	"GET /api/v1/spaces":                            everyone,
	"GET /api/v1/spaces/{id}":                       everyone,
	"GET /api/v1/people":                            readers,
	"GET /api/v1/people/{id}":                       everyone,
	"GET /api/v1/links":                             everyone,
	"POST /api/v1/links":                            editors,
	"POST /api/v1/links/{id}/end":                   editors,
	"GET /api/v1/forwarders":                        readers,
	"DELETE /api/v1/forwarders/{person}/{address}":  editors,
	"GET /api/v1/findings":                          readers,
	"POST /api/v1/findings/acceptance":              keepers,
	"DELETE /api/v1/findings/acceptance":            keepers,
	"POST /api/v1/would":                            everyone,
	"POST /api/v1/check":                            everyone,
	"GET /api/v1/halves":                            readers,
	"GET /api/v1/partners/{id}/letter":              readers,
	"PUT /api/v1/partners/{id}/stances/{key}":       keepers,
	"GET /api/v1/statement":                         readers,
	"POST /api/v1/statement/keys":                   admins,
	"GET /api/v1/partners/{id}/statement":           readers,
	"POST /api/v1/partners/{id}/statement":          keepers,
	"PUT /api/v1/partners/{id}/statement/key":       admins,
	"GET /.well-known/wexillum-statement":           open,
	"GET /.well-known/wexillum-keys":                open,
	"GET /api/v1/partners/{id}/people":              readers,
	"GET /api/v1/partners/{id}/advice":              readers,
	"GET /api/v1/letters":                           readers,
	"POST /api/v1/letters":                          keepers,
	"GET /api/v1/letters/{id}":                      readers,
	"POST /api/v1/letters/{id}/close":               keepers,
	"GET /api/v1/numbers":                           readers,
	"GET /api/v1/numbers/lines":                     readers,
	"GET /api/v1/rules/{rule}/audience":             readers,
	"GET /api/v1/due":                               everyone,
	"GET /api/v1/dates":                             readers,
	"POST /api/v1/dates/release":                    admins,
	"POST /api/v1/dates/lift":                       admins,
	"POST /api/v1/records/mend":                     admins,
	"DELETE /api/v1/partners/{id}/stances/{key}":    keepers,
	"GET /api/v1/due/days":                          everyone,
	"POST /api/v1/due/supposing":                    everyone,
	"GET /api/v1/guests":                            everyone,
	"GET /api/v1/guests/{address}":                  everyone,
	"POST /api/v1/guests/changes":                   editors,
	"POST /api/v1/guests/merge":                     keepers,
	"POST /api/v1/invitations":                      editors,
	"POST /api/v1/people/{id}/leaving":              keepers,
	"GET /api/v1/offers":                            everyone,
	"POST /api/v1/offers/{id}/answer":               editors,
	"GET /api/v1/wishes":                            everyone,
	"POST /api/v1/wishes/{address}/answer":          editors,
	"GET /api/v1/outbox":                            readers,
	"POST /api/v1/outbox/{id}/again":                keepers,
	"GET /api/v1/lists":                             readers,
	"GET /api/v1/lists/{what}":                      readers,
	"POST /api/v1/lists/{what}":                     keepers,
	"GET /api/v1/door":                              open,
	"POST /api/v1/door/open":                        open,
	"POST /api/v1/door/code":                        open,
	"POST /api/v1/door/prove":                       open,
	"POST /api/v1/door/partner":                     open,
	"GET /api/v1/door/back":                         open,
	"GET /api/v1/own":                               guests,
	"POST /api/v1/own/accept":                       guests,
	"POST /api/v1/own/more":                         guests,
	"POST /api/v1/own/language":                     guests,
	"POST /api/v1/own/leave":                        guests,
	"GET /api/v1/requests":                          everyone,
	"POST /api/v1/requests":                         editors,
	"GET /api/v1/requests/{id}":                     everyone,
	"POST /api/v1/requests/{id}/answer":             editors,
	"POST /api/v1/requests/{id}/draft":              keepers,
	"POST /api/v1/requests/{id}/heard":              editors,
	"POST /api/v1/remedies":                         everyone,
	"POST /api/v1/remedies/draft":                   keepers,
	"POST /api/v1/drafts/{id}/keep":                 keepers,
	"POST /api/v1/drafts/{id}/restore":              keepers,
	"GET /api/v1/two-people":                        readers,
	"PUT /api/v1/two-people":                        admins,
	"GET /api/v1/drafts":                            readers,
	"POST /api/v1/drafts":                           keepers,
	"GET /api/v1/drafts/{id}":                       readers,
	"POST /api/v1/drafts/{id}/drop":                 keepers,
	"POST /api/v1/drafts/{id}/undo":                 keepers,
	"POST /api/v1/drafts/{id}/settle":               keepers,
	"GET /api/v1/drafts/{id}/impact":                readers,
	"GET /api/v1/drafts/{id}/impact/lines":          readers,
	"POST /api/v1/drafts/{id}/publish":              admins,
	"POST /api/v1/drafts/{id}/confirm":              admins,
	"POST /api/v1/drafts/{id}/withdraw":             keepers,
	"GET /api/v1/revisions":                         readers,
	"GET /api/v1/revisions/{number}":                readers,
	"POST /api/v1/revisions/{number}/back":          admins,
	"GET /api/v1/world":                             auditors,
	"POST /api/v1/world":                            admins,
	"GET /api/v1/journal":                           readers,
	"GET /api/v1/journal/verification":              auditors,
	"GET /api/v1/changes":                           everyone,
	"POST /access/v1/evaluation":                    {service.Administrator, service.Auditor, service.Keeper, service.Decisions},
	"POST /access/v1/evaluations":                   {service.Administrator, service.Auditor, service.Keeper, service.Decisions},
	"GET /.well-known/authzen-configuration":        open,
	"GET /api/v1/openapi.yaml":                      open,
	"GET /metrics":                                  {service.Administrator, service.Auditor, service.Metrics},
	"GET /healthz":                                  open,
	"GET /readyz":                                   open,
}

// policyRoutes are those that change policy.
var policyRoutes = map[string]bool{
	"PUT /api/v1/two-people":   true,
	"PUT /api/v1/rules/{rule}": true, "POST /api/v1/partners": true, "PUT /api/v1/partners/{id}": true, "POST /api/v1/partners/{id}/standing": true,
	"POST /api/v1/partners/{id}/merge": true, "POST /api/v1/partners/{id}/split": true, "POST /api/v1/partners/{id}/domains": true, "DELETE /api/v1/partners/{id}/domains/{domain}": true,
	"POST /api/v1/bars": true, "DELETE /api/v1/bars/{key}": true, "POST /api/v1/domains/import": true,
	"POST /api/v1/exceptions": true, "POST /api/v1/exceptions/import": true, "PUT /api/v1/exceptions/{id}": true, "POST /api/v1/exceptions/{id}/end": true, "POST /api/v1/exceptions/{id}/prolong": true,
}

// draftRoutes are those besides that may be sent within a draft: they ask, or judge by
// what they hold.
var draftRoutes = map[string]bool{
	"POST /api/v1/ask": true, "POST /api/v1/remedies": true, "POST /api/v1/would": true, "POST /api/v1/due/supposing": true, "POST /api/v1/check": true, "POST /api/v1/world": true, "PUT /api/v1/values/{where}/{rule}": true, "DELETE /api/v1/values/{where}/{rule}": true,
	"POST /access/v1/evaluation": true, "POST /access/v1/evaluations": true, "POST /access/v1/search/subject": true, "POST /access/v1/search/resource": true, "POST /access/v1/search/action": true,
	"POST /api/v1/drafts": true, "POST /api/v1/drafts/{id}/drop": true, "POST /api/v1/drafts/{id}/keep": true, "POST /api/v1/drafts/{id}/restore": true, "POST /api/v1/drafts/{id}/undo": true, "POST /api/v1/drafts/{id}/settle": true, "POST /api/v1/drafts/{id}/publish": true,
	"POST /api/v1/drafts/{id}/confirm": true, "POST /api/v1/drafts/{id}/withdraw": true,
}

// previewRoutes are those that change at once, but whose preview may be asked within a draft.
var previewRoutes = map[string]bool{"POST /api/v1/guests/changes": true, "POST /api/v1/invitations": true, "POST /api/v1/links": true}

func (rs roles) has(r service.Role) bool {
	for _, x := range rs {
		if x == r {
			return true
		}
	}
	return false
}

// Patterns lists every route that is served, as METHOD path, in order.
func Patterns() []string {
	out := make([]string, 0, len(access))
	for p := range access {
		out = append(out, p)
	}
	sort.Strings(out)
	return out
}
