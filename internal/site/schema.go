package site

import _ "embed" // of the schema

// Schema is the JSON Schema (draft 2020-12) of systems files, for editors. What it cannot say, such as that names are unique, the
// checks of this package say.
//
//go:embed schema.json
var Schema []byte
