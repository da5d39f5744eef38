package redact

// BreakTexts makes an engine that does not look into texts within texts, for the test that holds the proof against it.
func BreakTexts() *Engine {
	e := NewEngine(Options{})
	e.texts.depth = maxTextDepth
	return e
}
