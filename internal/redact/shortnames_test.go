package redact

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// People in notes, lists and records go by what they are called there; what looks like it stays.
func TestPeopleInShortTexts(t *testing.T) {
	for in, want := range map[string]string{
		"Gemeldet von Marek ZIELONKA heute":                 "Gemeldet von user-2a heute",
		"CUST Helga Vik TEL 7":                              "CUST user-2a TEL 7",
		"06:12 Marek Zielonka came. Mr Zielonka said so":    "06:12 user-2a came. Mr user-2ak said so",
		"handed over to C/O J. Park":                        "handed over to C/O user-2a",
		"EARLY: Vik H., Okeke M.":                           "EARLY: user-2b, user-2a",
		"0417;OKEKE;MARTHA;14.03.2031;05:58;IN":             "0417;user-2b;user-2a;14.03.2031;05:58;IN",
		"1. Lindqvist, Hanna   Master":                      "1. user-2a   Master",
		"<kari.s> restarted it, ask @rajan_m":               "<user-2a> restarted it, ask @user-2b",
		"2031-03-14 | 192.0.2.61 | hlindqvist | GET /fares": "2031-03-14 | 240.0.0.1 | user-2a | GET /fares",
		"# Marek Zielonka":                                  "# user-2a",
		"EVT|20310314061201|LOGON|ETHORSEN|GATE3|OK":        "EVT|20310314061201|LOGON|user-2a|GATE3|OK",
		"job=7 started_by=obrady state=done":                "job=7 started_by=user-2a state=done",
		"opened session for Hanna Lindqvist/Ops/Merrowick":  "opened session for user-2a/Ops/Merrowick",
	} {
		require.Equal(t, want+"\n", learnedText(t, in+"\n"))
	}
	for _, stays := range []string{
		"the ferry Marina Bay came at six", "see anna.py and max_value of gate.maria.db", "a, b | c | started | GET /fares",
		"rows sorted_by=created", "limit|log|logout|ls-F|migrate", "we deploy with Hugo and Gerrit", "Caused by: RateLimit at lane 7",
		"EVT|LOGON|GATE3|OK", "MR. MAY CONTAIN NUTS", "--sort-by=create_time", "can be set by passing", "Gate Hall N; Upper Deck; Lane; 7",
	} {
		require.Equal(t, stays+"\n", learnedText(t, stays+"\n"))
	}
}
