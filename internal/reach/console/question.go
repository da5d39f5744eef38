package console

import (
	"strings"

	"envask/internal/late"
)

// An empty line says yes to many a question. So none is typed at a line that asks something: only the answers of an ask are.

// asksYesNo matches a line that asks for a decision, whatever a prompt looks like.
var asksYesNo = late.Pattern(`(?i)\?\s*$|\?\s*[\[(<{]|\by(es)?\s*[/|,]\s*no?\b|[\[(<{]\s*(confirm|y|n|yes|no)\s*[\])>}]`)

// asksOther matches a line that asks for a word: several words and a colon, or what it takes by default in brackets.
var asksOther = late.Pattern(`\?|\S\s+\S.*:\s*$|\S\s*:?\s+[\[(][^\])]*[\])]\s*:?\s*$|(?i)^(log ?in|user ?(name|id)?|account)\s*:\s*$`)

// asks reports whether a line that is not known as the prompt asks something.
func asks(line string) bool { return asksYesNo().MatchString(line) || asksOther().MatchString(line) }

var (
	inBrackets = late.Pattern(`\([^()]*\)|\[[^\[\]]*\]`)
	usualSign  = late.Pattern(`[>#$%»~]$`)
)

// mostWords of a prompt: "pier switch 7>", "/ #".
const mostWords = 3

// mayFollow reports whether a line may be the prompt after one of another text: it ends as one does, asks nothing, and has few words.
func (p *prompt) mayFollow(text string) bool {
	if asks(text) || asksPassword().MatchString(text) || len(text) > 200 {
		return false
	}
	same := p.text != "" && text[len(text)-1] == p.text[len(p.text)-1]
	return (same || usualSign().MatchString(text)) && len(strings.Fields(inBrackets().ReplaceAllString(text, ""))) <= mostWords
}
