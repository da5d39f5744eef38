package ask

import _ "embed"

// Template is a commented ask to start from. It passes the check as it is.
//
//go:embed template.yaml
var Template []byte
