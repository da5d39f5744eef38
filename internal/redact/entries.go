package redact

import (
	"cmp"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// entry is a text to be found, and the value that it stands for.
type entry struct {
	text   string
	value  *Value
	base64 bool // the text is the heart of the value in base64: all of the base64 around it goes
}

// entriesOf gives the texts by which values are found: as they are, and in their other forms, sorted by text. A form that is
// a value by itself, or the form of another value too, is there once.
func entriesOf(values []Value) []entry {
	parts := make([][]entry, runtime.GOMAXPROCS(0)) // there may be tens of thousands, and everything waits for them
	size := (len(values) + len(parts) - 1) / len(parts)
	var g sync.WaitGroup
	for i := range parts {
		g.Go(func() {
			some := values[min(i*size, len(values)):min((i+1)*size, len(values))]
			part := make([]entry, 0, 3*len(some))
			for k := range some {
				part = append(part, entry{text: some[k].Text, value: &some[k]})
				part = writtenForms(part, &some[k])
			}
			parts[i] = sortedByText(part, func(e *entry) string { return e.text }, compareEntries)
		})
	}
	g.Wait()
	all := parts[0]
	for _, part := range parts[1:] {
		all = mergeEntries(all, part)
	}
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
	return cmp.Or(strings.Compare(string(a.value.Class), string(b.value.Class)), strings.Compare(a.value.Rule, b.value.Rule), strings.Compare(a.value.Text, b.value.Text))
}

// sortedByText gives a list sorted by a text of each: by its first eight bytes, which are compared at once, and by everything only
// where these are the same.
func sortedByText[T any](list []T, text func(*T) string, compare func(a, b *T) int) []T {
	type head struct {
		first uint64
		at    int32
	}
	heads := make([]head, len(list))
	for i := range list {
		heads[i] = head{tailOf(text(&list[i]), 0), int32(i)}
	}
	slices.SortFunc(heads, func(a, b head) int {
		switch {
		case a.first < b.first:
			return -1
		case a.first > b.first:
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

// mergeEntries makes one sorted list of two.
func mergeEntries(a, b []entry) []entry {
	out := make([]entry, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		if compareEntries(&a[0], &b[0]) <= 0 {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}
