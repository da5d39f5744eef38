package redact

import (
	"bytes"
	"cmp"
	"slices"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
	"envask/internal/redact/judge"
	"envask/internal/redact/learn"
	"envask/internal/redact/scan"
)

// What is found in a block, and how finds of several kinds come together.

// begin forgets what was found, and gives what lies ahead in a block already, at its end where there is nothing: that is come to later,
// and what stands before it is looked at all the same.
func (e *Engine) begin(b []byte, from int) (ahead finding) {
	e.findings, e.openKey, e.phrased, e.called = e.findings[:0], false, e.phrased[:0], called{}
	e.gate.Begin(from)
	e.sqlRows = e.sqlRows[:0]
	e.heads, e.rowsNext, e.lineAt = e.heads[:0], e.rows, lineAt{}
	if e.base == 0 && from == 0 {
		e.texts.beginStream(b)
		e.heads = append(e.heads, 0) // the first line of a text
	}
	for _, s := range e.segments {
		if bytes.IndexByte(b[s.start:max(s.start, s.end-2)], '\n') >= 0 {
			e.heads = append(e.heads, s.start)
		}
	}
	e.texts.before(b, from)
	if f, ok := e.fromBefore(b, from); ok {
		return f
	}
	return finding{start: len(b) + 1}
}

// find fills e.findings with what is in b from a place on: sorted, none overlapping another.
func (e *Engine) find(b []byte, from int) {
	free, ahead := from, e.begin(b, from)
	for i := from; ; i++ {
		stop := min(len(b), ahead.start)
		i = e.gate.Next(b, i, stop)
		if i >= stop {
			if ahead.start > len(b) {
				break
			}
			e.findings = append(e.findings, ahead)
			free, i = ahead.end, ahead.end-1
			if ahead.rule == ownerRule {
				e.gate.OwnerEnd = free
			}
			ahead.start = len(b) + 1
			continue
		}
		if b[i] == '[' {
			if n := find.PlaceholderLen(b[i:]); n > 0 { // nothing is found within what was put there before
				free, i = i+n, i+n-1
				continue
			}
		}
		e.note(b, i, from)
		rules := e.table[b[i]]
		if b[i] == '.' && i > 1 && i+1 < len(b) && chars.IsDigit(b[i-1]) && chars.IsDigit(b[i+1]) &&
			!find.TokenEnds.Get().Has(b[i-2], b[i-1]) {
			rules = e.betweenDigits
		}
		f, ok := e.at(b, i, free, rules)
		switch {
		case !ok || f.end > ahead.start && f.end > i:
		case f.alias: // it is whole in itself: nothing else is read into it
			free, i = f.end, max(i, f.end-1)
		case f.start > i+1 && ahead.start > len(b):
			ahead = f
		default:
			e.findings = append(e.findings, f)
			if after, isKey := find.KeyHead(b, f.start); isKey && f.end == len(b) {
				_, e.openKey = find.KeyBlockEnd(b, after, true)
			}
			free, i = f.end, max(i, f.end-1)
		}
	}
	e.findBehind(b, from)
}

// note notes what a place begins, and adds what phrases and programs around it give away.
func (e *Engine) note(b []byte, i, from int) {
	if mayHead[b[i]] {
		e.noteHead(b, i, from)
	}
	switch b[i] {
	case '(':
		if scan.OpensRow(b, i) {
			e.sqlRows = append(e.sqlRows, i)
		}
	case ' ':
		e.findPhrases(b, i)
	case '-':
		if i > 0 && i+1 < len(b) && find.BeforeDash[b[i-1]] && b[i+1] != ' ' && b[i+1] != '"' {
			e.findProgram(b, i)
		}
	}
}

// findBehind adds what is found when the rules are through, and puts all finds in order.
func (e *Engine) findBehind(b []byte, from int) {
	ruled := len(e.findings)
	e.findBeside(b, from)
	e.findLines(b, from)
	e.addPhrased(b, from)
	e.findRows(b, from)
	e.gate.EachNumber(b, from, e.findNext)
	if e.rows.open() || len(e.heads) > 0 {
		e.findTables(b, from)
	}
	e.findFacts(b, from)
	ruled = e.findInTexts(b, from, ruled)
	e.findCompanions(b, from)
	if e.texts.depth < maxTextDepth {
		e.texts.noteLong(b, len(b), len(b))
		e.findPacked(b, from)
	}
	numbered := len(e.findings)
	e.findLearned(b, from, e.findings[:ruled])
	byStart := func(a, b finding) int { return cmp.Compare(a.start, b.start) }
	if numbered > ruled { // of several rules, one after the other
		slices.SortStableFunc(e.findings[:numbered], byStart)
	}
	if len(e.findings) > ruled {
		e.merge(numbered)
	}
}

// fromBefore gives what something in the last two lines before a block gave away in it, such as a key whose value stands below.
func (e *Engine) fromBefore(b []byte, from int) (f finding, ok bool) {
	if from == 0 || b[from-1] != '\n' {
		return f, false
	}
	for i := chars.LineStart(b, max(0, chars.LineStart(b, from-1)-1)); i < from && !ok; i++ {
		if e.gate.IsTrigger(b[i]) {
			f, ok = e.at(b, i, from, e.table[b[i]])
		}
	}
	return f, ok
}

// at gives what the rules find at one trigger.
func (e *Engine) at(b []byte, i, free int, rules []*Rule) (f finding, ok bool) {
	kind, known := find.KeyKind(0), false
	for _, r := range rules {
		if r.Keys != 0 {
			if !known {
				if known = true; i > 0 {
					kind = e.gate.KeyAt(b, i)
				}
			}
			if kind&r.Keys == 0 {
				continue
			}
		}
		by := r.Find
		var start, end int
		if by != nil {
			start, end, ok = by(b, i, free)
		} else {
			start, end, ok = r.Keyed(b, i, free, kind)
		}
		if !ok || start < free || end <= start {
			continue
		}
		if start > 0 && b[start-1] == '\\' && find.HalfEscape(b, start) {
			continue
		}
		if r.Class != alias.IPv4 && r.Class != alias.IPv6 && r.Class != alias.MAC {
			if end = find.WithinText(b, start, end); find.LeavesText(b, i, start) {
				continue
			}
		}
		if end <= start || holdsPlaceholder(b[start:end]) || r.judged && !plausible(b, start, end, r.Class, false) {
			continue
		}
		if r.judged && r.Class == alias.User {
			end = judge.WholeName(b, start, end)
		}
		f := finding{start: start, end: end, trigger: i, class: r.Class, rule: r.Name, by: r}
		if r.Class != alias.Secret {
			f.put = r.known.of(b, start, end)
			f.alias = f.put == "" && alias.IsAlias(r.Class, b[start:end])
		}
		return f, true
	}
	return f, false
}

// findLearned adds learned values, but for those within finds of rules.
func (e *Engine) findLearned(b []byte, from int, rules []finding) {
	if e.matcher == nil {
		return
	}
	e.taken = e.taken[:0]
	for i := range rules {
		e.taken = append(e.taken, learn.Taken{Start: rules[i].start, End: rules[i].end, Secret: rules[i].class == alias.Secret})
	}
	e.matcher.Each(b, from, e.taken, func(m learn.Match) {
		e.findings = append(e.findings, finding{start: m.Start, end: m.End, trigger: m.Start, class: m.Class, rule: m.Rule,
			original: m.Text})
	})
}

// merge brings together the findings up to a place in their list and those from there on, each in order. Where two overlap, both
// go as one.
func (e *Engine) merge(second int) {
	merged := e.merged[:0]
	for i, j := 0, second; i < second || j < len(e.findings); {
		f := &e.findings[min(i, len(e.findings)-1)]
		if i == second || j < len(e.findings) && e.findings[j].start < f.start {
			f = &e.findings[j]
			j++
		} else {
			i++
		}
		if len(merged) == 0 || f.start >= merged[len(merged)-1].end {
			merged = append(merged, *f)
			continue
		}
		last := &merged[len(merged)-1]
		if last.class != alias.Secret && (f.class == alias.Secret || f.end-f.start > last.end-last.start) {
			last.class, last.rule, last.by, last.original, last.put = f.class, f.rule, f.by, f.original, ""
		}
		if f.end <= last.end {
			continue
		}
		if last.end = f.end; f.start == last.start && f.class != alias.Secret && last.class == f.class { // it is part of this one
			continue
		}
		last.put, last.packed, last.original = "", nil, ""                                     // of which a half is learned
		if last.class != alias.Secret && (last.class != alias.User || f.class != alias.User) { // no alias stands for half of each
			last.class = alias.Secret
		}
	}
	e.findings, e.merged = merged, e.findings
}

// findNext adds what a rule finds that looks for itself, and gives where its last find ends.
func (e *Engine) findNext(rule int, b []byte, at int) int {
	r := e.nexts[rule]
	for {
		start, end, ok := r.Next(b, at)
		if !ok {
			return at
		}
		e.findings = append(e.findings, finding{start: start, end: end, trigger: start, class: r.Class, rule: r.Name, by: r})
		at = end
	}
}
