package api

import (
	"encoding/json"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Answers of AuthZEN, written by hand.
//
// A gateway asks for a thousand at once, and a third of what each costs would be
// finding out anew, by reflection, that an answer consists of texts and numbers.
// What is written is byte for byte what encoding/json writes (TestAnswersWritten);
// texts that need escaping are left to it.

// appendTo writes the answer behind what is there.
func (a *azAnswer) appendTo(out []byte) []byte {
	out = strconv.AppendBool(append(out, `{"decision":`...), a.Decision)
	switch c := a.Context.(type) {
	case nil:
	case *azFound:
		out = c.appendTo(append(out, `,"context":`...))
	default: // of what is unknown or wrong there are few
		doc, err := json.Marshal(c)
		if err != nil {
			panic("api: " + err.Error()) // what is written consists of texts and numbers
		}
		out = append(append(out, `,"context":`...), doc...)
	}
	return append(out, '}')
}

func (c *azFound) appendTo(out []byte) []byte {
	out = appendTexts(append(out, `{"conditions":`...), c.Conditions)
	out = appendText(append(out, `,"account":`...), c.Account)
	out = append(out, `,"gates":`...)
	if c.Gates == nil {
		out = append(out, "null"...)
	} else {
		out = append(out, '[')
		for i := range c.Gates {
			if i > 0 {
				out = append(out, ',')
			}
			out = c.Gates[i].appendTo(out)
		}
		out = append(out, ']')
	}
	out = strconv.AppendUint(append(out, `,"revision":`...), c.Revision, 10)
	out = appendText(append(out, `,"at":`...), c.At)
	if len(c.Unenforced) > 0 {
		out = appendTexts(append(out, `,"unenforced":`...), c.Unenforced)
	}
	if c.Bundle != "" {
		out = appendText(append(out, `,"bundle":`...), c.Bundle)
	}
	out = appendText(append(out, `,"known_at":`...), c.KnownAt)
	out = strconv.AppendInt(append(out, `,"keep_seconds":`...), int64(c.KeepSeconds), 10)
	return append(out, '}')
}

func (g *azGate) appendTo(out []byte) []byte {
	out = appendText(append(out, `{"gate":`...), g.Gate)
	out = appendText(append(out, `,"answer":`...), g.Answer)
	for i := range g.Causes {
		c := &g.Causes[i]
		if i == 0 {
			out = append(out, `,"causes":[`...)
		} else {
			out = append(out, ',')
		}
		out = appendText(append(out, `{"code":`...), c.Code)
		out = appendText(append(out, `,"side":`...), c.Side)
		if c.Who != "" {
			out = appendText(append(out, `,"who":`...), c.Who)
		}
		out = append(appendText(append(out, `,"text":`...), c.Text), '}')
	}
	if len(g.Causes) > 0 {
		out = append(out, ']')
	}
	return append(out, '}')
}

func appendTexts(out []byte, list []string) []byte {
	if list == nil {
		return append(out, "null"...)
	}
	out = append(out, '[')
	for i, s := range list {
		if i > 0 {
			out = append(out, ',')
		}
		out = appendText(out, s)
	}
	return append(out, ']')
}

// appendText writes a text: as it stands between quotation marks where nothing of
// it is escaped, which is nearly always.
func appendText(out []byte, s string) []byte {
	wide := false
	for i := range len(s) {
		c := s[i]
		if c < ' ' || c == 0x7f || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			return appendEscaped(out, s)
		}
		wide = wide || c > 0x7f
	}
	if wide && (!utf8.ValidString(s) || strings.ContainsAny(s, "\u2028\u2029")) {
		return appendEscaped(out, s)
	}
	return append(append(append(out, '"'), s...), '"')
}

func appendEscaped(out []byte, s string) []byte {
	doc, err := json.Marshal(s)
	if err != nil {
		panic("api: " + err.Error()) // any text can be written
	}
	return append(out, doc...)
}
