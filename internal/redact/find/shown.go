package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// NamesWhole reports whether a key is one behind which the whole name of somebody is shown: displayName, caller_id_name.
func NamesWhole(key []byte) bool {
	var buf [chars.MaxKey]byte
	plain := PlainKey(&buf, key)
	return bytes.HasSuffix(plain, []byte("displayname")) || bytes.HasSuffix(plain, []byte("calleridname"))
}
