package learn

import (
	"cmp"
	"runtime"
	"slices"
	"strings"
	"sync"

	"envask/internal/redact/alias"
)

// entry is a text to be found, and the value that it stands for.
type entry struct {
	text   string
	value  *alias.Value
	base64 bool // the text is the heart of the value in base64: all of the base64 around it goes
}

// entriesOf gives the texts by which values are found: as they are, and in their other forms, sorted by text. A form that is
// a value by itself, or the form of another value too, is there once.
func entriesOf(values []alias.Value) []entry {
	parts := make([][]entry, runtime.GOMAXPROCS(0))
	inParts(len(values), func(i, from, to int) {
		part := make([]entry, 0, 3*(to-from))
		for k := from; k < to; k++ {
			part = append(part, entry{text: values[k].Text, value: &values[k]})
			part = writtenForms(part, &values[k])
		}
		parts[i] = sortedPart(part, func(e *entry) string { return e.text }, compareEntries)
	})
	all := mergeSorted(parts, compareEntries)
	once := all[:0]
	for _, e := range all {
		if len(once) == 0 || !e.isForm() || e.text != once[len(once)-1].text {
			once = append(once, e)
		}
	}
	return once
}

// isForm says whether the text is another form of the value.
func (e *entry) isForm() bool { return e.base64 || e.text != e.value.Text }

// compareEntries orders by text; of the same text values come first.
func compareEntries(a, b *entry) int {
	if c := strings.Compare(a.text, b.text); c != 0 {
		return c
	}
	if a.isForm() != b.isForm() {
		if b.isForm() {
			return -1
		}
		return 1
	}
	return cmp.Or(strings.Compare(string(a.value.Class), string(b.value.Class)),
		strings.Compare(a.value.Rule, b.value.Rule), strings.Compare(a.value.Text, b.value.Text))
}

// inParts calls each for the parts of a list that are handled beside each other, and waits: there may be tens of thousands of values,
// and everything waits for them.
func inParts(n int, each func(part, from, to int)) {
	parts := runtime.GOMAXPROCS(0)
	var g sync.WaitGroup
	for i := range parts {
		g.Go(func() { each(i, n*i/parts, n*(i+1)/parts) })
	}
	g.Wait()
}

// sortedByText gives a list sorted by a text of each.
func sortedByText[T any](list []T, text func(*T) string, compare func(a, b *T) int) []T {
	parts := make([][]T, runtime.GOMAXPROCS(0))
	inParts(len(list), func(i, from, to int) { parts[i] = sortedPart(list[from:to], text, compare) })
	return mergeSorted(parts, compare)
}

// sortedPart sorts by the first sixteen bytes, which are at hand, and by everything only where these are the same.
func sortedPart[T any](list []T, text func(*T) string, compare func(a, b *T) int) []T {
	type head struct {
		first, second uint64
		at            int32
	}
	heads := make([]head, len(list))
	for i := range list {
		s := text(&list[i])
		heads[i] = head{tailOf(s, 0), tailOf(s, 8), int32(i)}
	}
	slices.SortFunc(heads, func(a, b head) int {
		switch {
		case a.first < b.first || a.first == b.first && a.second < b.second:
			return -1
		case a.first > b.first || a.second > b.second:
			return 1
		}
		return compare(&list[a.at], &list[b.at])
	})
	sorted := make([]T, len(list))
	for i, h := range heads {
		sorted[i] = list[h.at]
	}
	return sorted
}

// mergeSorted makes one sorted list of several.
func mergeSorted[T any](parts [][]T, compare func(a, b *T) int) []T {
	all := parts[0]
	for _, b := range parts[1:] {
		a := all
		all = make([]T, 0, len(a)+len(b))
		for len(a) > 0 && len(b) > 0 {
			if compare(&a[0], &b[0]) <= 0 {
				all, a = append(all, a[0]), a[1:]
			} else {
				all, b = append(all, b[0]), b[1:]
			}
		}
		all = append(append(all, a...), b...)
	}
	return all
}

// tailOf gives eight bytes of a text as a number that sorts like them. What is behind its end is taken as zeros.
func tailOf(text string, at int) (tail uint64) {
	if at+8 <= len(text) {
		t := text[at : at+8]
		return uint64(t[0])<<56 | uint64(t[1])<<48 | uint64(t[2])<<40 | uint64(t[3])<<32 |
			uint64(t[4])<<24 | uint64(t[5])<<16 | uint64(t[6])<<8 | uint64(t[7])
	}
	for i := range 8 {
		tail <<= 8
		if at+i < len(text) {
			tail |= uint64(text[at+i])
		}
	}
	return tail
}
