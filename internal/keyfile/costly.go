package keyfile

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
)

// An input file comes from somebody else, and what it says is done many times over: each pattern on every name, each expression on
// every line. What would cost too much is a mistake of the file, said with its place, before anything is done.

// Limits on one expression and one pattern.
const (
	maxExpression = 1000 // characters
	maxProgram    = 4000 // instructions that it compiles to
	maxPattern    = 1000 // bytes
	maxDeep       = 3    // ** in one pattern: each goes down all folders once more
	maxStars      = 8    // in one element of a path
	maxBraces     = 3    // groups of alternatives in one element: they multiply
)

// Expression reads a regular expression (RE2 syntax); nil is none, or a mistake that was reported.
func (v Value) Expression(key string) *regexp.Regexp {
	if !v.Set() {
		return nil
	}
	re, err := compile(v.Text)
	if err != nil {
		v.Problem("%s: not a usable expression: %s", key, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		return nil
	}
	return re
}

func compile(text string) (*regexp.Regexp, error) {
	if n := len([]rune(text)); n > maxExpression {
		return nil, fmt.Errorf("it has %d characters; %d at most", n, maxExpression)
	}
	tree, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		return nil, err
	}
	prog, err := syntax.Compile(tree.Simplify())
	if err != nil {
		return nil, err
	}
	if len(prog.Inst) > maxProgram {
		return nil, fmt.Errorf("it costs too much: written out it has %d steps; %d at most", len(prog.Inst), maxProgram)
	}
	return regexp.Compile(text)
}

// CostlyPattern says why matching a pattern of paths would cost too much; "" is that it does not.
func CostlyPattern(pattern string) string {
	if len(pattern) > maxPattern {
		return fmt.Sprintf("has %d bytes; %d at most", len(pattern), maxPattern)
	}
	deep := 0
	for _, element := range strings.FieldsFunc(pattern, func(r rune) bool { return r == '/' || r == '\\' }) {
		if element == "**" {
			deep++
		}
		if strings.Count(element, "*") > maxStars {
			return fmt.Sprintf("has more than %d stars in %.40q", maxStars, element)
		}
		if strings.Count(element, "{") > maxBraces {
			return fmt.Sprintf("has more than %d groups of braces in %.40q; write several patterns", maxBraces, element)
		}
	}
	if deep > maxDeep {
		return fmt.Sprintf("goes down all folders %d times (**); %d at most", deep, maxDeep)
	}
	return ""
}
