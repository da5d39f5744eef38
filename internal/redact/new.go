package redact

import (
	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// NewEngine makes an engine.
func NewEngine(o Options) *Engine {
	e := &Engine{rules: o.Config.rules(), matcher: o.Matcher, learned: o.Learned, aliases: o.Aliases, cache: map[alias.Class]*known{},
		ignore: map[string]bool{}, another: NewEngine, named: map[string]*Rule{},
		formats: formats(), options: o, announced: announcedWords()}
	if e.aliases == nil {
		e.aliases = alias.NewTable()
	}
	for _, k := range append(append([]string{}, o.Keep...), o.Config.Never...) {
		e.ignore[k] = true
	}
	for _, d := range o.Config.Domains {
		e.domainFirst[d[0]|0x20], e.domainFirst[d[0]&^0x20] = true, true
		e.domainFirst[d[0]] = true
		e.digitDomain = e.digitDomain || chars.IsDigit(d[0])
	}
	defer func() {
		for _, r := range e.table['.'] { // neither most tokens nor a private domain have a dot between digits
			if e.digitDomain || r.Name != serviceTokenRule && r.Name != "host" {
				e.betweenDigits = append(e.betweenDigits, r)
			}
		}
	}()
	e.sieve = sieveFor(e.rules, o.Config.Domains)
	for c, fit := range e.sieve.exact[contextBehind] {
		e.signs[c] = fit != 0
	}
	for _, c := range Classes {
		e.cache[c] = &known{all: map[string]string{}}
	}
	for i := range e.rules {
		r := &e.rules[i]
		r.known = e.cache[r.Class]
		e.named[r.Name] = r
		if r.Next != nil {
			e.nexts, e.nextAt = append(e.nexts, r), append(e.nextAt, 0)
		}
		for _, c := range []byte(r.Triggers) {
			e.table[c] = append(e.table[c], r)
			e.trigger[c] = true
		}
	}
	return e
}

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
