package redact

import (
	"sync"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/scan"
)

// NewEngine makes an engine.
func NewEngine(o Options) *Engine {
	e := &Engine{rules: o.Config.rules(), matcher: o.Matcher, learned: o.Learned, aliases: o.Aliases, cache: map[alias.Class]*known{},
		ignore: map[string]bool{}, another: NewEngine, named: map[string]*Rule{},
		formats: formats(), options: o}
	if e.aliases == nil {
		e.aliases = alias.NewTable()
	}
	for _, k := range append(append([]string{}, o.Keep...), o.Config.Never...) {
		e.ignore[k] = true
	}
	for _, c := range Classes {
		e.cache[c] = &known{all: map[string]string{}}
	}
	needs := scan.Needs{Domains: o.Config.Domains}
	for i := range e.rules {
		r := &e.rules[i]
		r.known = e.cache[r.Class]
		e.named[r.Name] = r
		if r.Next != nil {
			e.nexts, needs.Numbers = append(e.nexts, r), append(needs.Numbers, r.sparse)
		}
		for _, c := range []byte(r.Triggers) {
			e.table[c] = append(e.table[c], r)
		}
		needs.Triggers += r.Triggers
	}
	e.gate = scanTables().New(needs, &e.texts)
	for _, r := range e.table['.'] { // neither most tokens nor a private domain have a dot between digits
		if e.gate.DigitDomain() || r.Name != serviceTokenRule && r.Name != "host" {
			e.betweenDigits = append(e.betweenDigits, r)
		}
	}
	return e
}

// scanTables are made with the first engine: a program that only prints its help does not wait for them.
var scanTables = sync.OnceValue(func() *scan.Tables {
	heads := chars.WordSet("uid owner user login " + webLogUser) // of tables
	return scan.NewTables(phraseTable().Endings(), phraseTable().Anchors(), programTable().Anchors(), heads.All())
})

// formats gives the table of forms; the first that fits is used.
func formats() []format {
	return []format{
		{Gzip, begins("\x1f\x8b\x08"), applyCompressed(Gzip)},
		{Zstd, begins("\x28\xb5\x2f\xfd"), applyCompressed(Zstd)},
		{Bzip2, isBzip2, applyCompressed(Bzip2)},
		{XZ, begins("\xfd7zXZ\x00"), applyCompressed(XZ)},
		{Zip, begins("PK\x03\x04"), applyZip},
		{Tar, isTar, applyTar},
		{Capture, begins("\xd4\xc3\xb2\xa1", "\xa1\xb2\xc3\xd4", "\x4d\x3c\xb2\xa1", "\xa1\xb2\x3c\x4d"), applyPcap},
		{Capture, begins("\x0a\x0d\x0d\x0a"), applyPcapng},
		{UTF16, isUTF16, applyUTF16},
		{Image, isImage, applyImage},
		{Opaque, isOpaque, applyOpaque},
		{HAR, isHAR, applyHAR},
		{Plain, func([]byte, string) bool { return true }, applyText},
	}
}
