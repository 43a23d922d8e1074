// Package phrase says in the words of a language what happens to records, for whoever reads
// it: answers, mail, pages.
package phrase

import "wexillum.example/internal/core/dated"

// Languages are those there are words in; the first stands for any other.
var Languages = []string{"en", "pt"}

// Of returns the language that stands for one: itself, or the first.
func Of(language string) string {
	for _, l := range Languages {
		if l == language {
			return l
		}
	}
	return Languages[0]
}

var steps = map[string][dated.NumKinds]string{
	"en": {
		dated.GrantEnds: "the grant ends", dated.ReviewDue: "the grant is to be confirmed", dated.Suspended: "the record is suspended",
		dated.Removed: "the record is removed", dated.Invitation: "the invitation lapses",
	},
	"pt": {
		dated.GrantEnds: "a permissão acaba", dated.ReviewDue: "a permissão tem de ser confirmada", dated.Suspended: "o registo é suspenso",
		dated.Removed: "o registo é apagado", dated.Invitation: "o convite caduca",
	},
}

var causes = map[string]map[dated.Cause]string{
	"en": {
		dated.ByUntil: "its own end", dated.ByReview: "nobody confirmed it in time", dated.ByLastGrant: "no grant is left",
		dated.ByTerm:     "the term without renewal is over",
		dated.ByOwnUntil: "the record's own end", dated.ByIdle: "not seen for too long", dated.ByPartner: "the connection with the partner ended",
		dated.ByHand:  "suspended by hand",
		dated.ByGrace: "the days of grace are over", dated.ByInviteDays: "not accepted in time",
		dated.ByReviewNeeded: "grants are confirmed from time to time",
		dated.BySponsor:      "the sponsor left and nobody took over", dated.ByHomeClosed: "the partner says that the home account is closed",
	},
	"pt": {
		dated.ByUntil: "o seu próprio fim", dated.ByReview: "ninguém a confirmou a tempo", dated.ByLastGrant: "já não resta nenhuma permissão",
		dated.ByTerm:     "passou o prazo sem renovação",
		dated.ByOwnUntil: "o fim do próprio registo", dated.ByIdle: "não aparece há demasiado tempo",
		dated.ByPartner: "a ligação com o parceiro acabou", dated.ByHand: "suspenso à mão",
		dated.ByGrace: "passaram os dias de espera", dated.ByInviteDays: "não foi aceite a tempo",
		dated.ByReviewNeeded: "as permissões confirmam-se de tempos a tempos",
		dated.BySponsor:      "quem respondia saiu e ninguém o substituiu", dated.ByHomeClosed: "o parceiro diz que a conta de origem foi fechada",
	},
}

var after = map[string]string{"en": ", after: ", "pt": ", depois de: "}

// Step says what a step is.
func Step(language string, k dated.Kind) string { return steps[Of(language)][k] }

// Cause says a cause; empty for none.
func Cause(language string, c dated.Cause) string { return causes[Of(language)][c] }

// Because says why a step happens, and of a removal what came before.
func Because(language string, st *dated.Step) string {
	s := Cause(language, st.Cause)
	if st.After != dated.NoCause {
		s += after[Of(language)] + Cause(language, st.After)
	}
	return s
}
