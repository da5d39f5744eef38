package find

// keyed is a value behind a key and a separator, in any of the usual notations: key=value, key: value, "key": "value",
// key => value, <key>value</key>.
type keyed struct {
	start, end int // of the value
	quoted     bool
	lineStart  bool // the key is the first thing on its line
}
