package flow

import "envask/internal/archive"

// What flow writes into a case's ledger: one kind and one record for each thing that is done. A record is never changed once there are
// cases with it; keys are only added. Collections and changes on systems have their own, in collect and undo.
const (
	kindAskApproved = "ask-approved"     // the ask that a case works by was approved
	kindPacked      = "packed"           // an archive was written
	kindSealed      = "sealed"           // it was encrypted
	kindSplit       = "split"            // it was cut into parts
	kindApproved    = "archive approved" // a person approved it
	kindDecided     = "review decided"   // a person decided about what looks like a secret
	kindSubmitted   = "submitted"        // it went over a route; the record is the receipt
	kindBrought     = "brought"          // a person brought something, or took it back; the record is a broughtRecord
	kindReply       = "reply"            // the vendor sent something back; the record is a Reply
	kindExported    = "case-exported"    // it was moved elsewhere; the record is an exportedRecord
	kindImported    = "case-imported"    // it came from elsewhere; the record is an importedRecord
	kindMarked      = "marked"           // a person said whether the error is marked in a picture
	kindBrief       = "brief"            // a person wrote in the write-up; the record is a briefRecord
	kindLooked      = "looked at"        // a person looked at a picture of an archive
	kindDiscarded   = "discarded"        // something of the case was removed; the record is a Discard
)

// opened is a case that was begun or changed.
type opened struct {
	Name    string `json:"name"`
	Number  string `json:"number,omitempty"`
	Was     string `json:"was,omitempty"`
	Ask     string `json:"ask_sha256"`
	Window  string `json:"window"`
	Systems string `json:"systems"`
	By      string `json:"by"`
	How     string `json:"how"` // "begun" or "changed"
}

// askApproved is the ask that a case works by.
type askApproved struct {
	Ask string `json:"ask_sha256"`
	By  string `json:"by"`
}

// packedRecord is an archive that was written.
type packedRecord struct {
	Archive string `json:"archive"` // name in out/
	Round   string `json:"round"`   // or rounds: r1,r2
	Since   string `json:"new_since,omitempty"`
	Size    int64  `json:"size"`
	SHA256  string `json:"sha256"`
	Files   int    `json:"files"`
	Lacking int    `json:"lacking"`
	Ask     string `json:"ask_sha256,omitempty"` // by which it was packed
	// Encrypt says that it may only go encrypted: for these public keys at least, or by a passphrase.
	Encrypt    []string `json:"encrypt,omitempty"`
	Passphrase bool     `json:"passphrase,omitempty"`
	By         string   `json:"by"`
	// Answers are checksums of what its write-up says, by field: what is new in a later one is told by them.
	Answers map[string]string `json:"answer_sums,omitempty"`
}

// sealedRecord is an archive that was encrypted. Its bytes are random by nature, so they are kept.
type sealedRecord struct {
	Archive    string   `json:"archive"`    // name of the plain one in out/
	OfSHA256   string   `json:"of_sha256"`  // of the plain one
	Sealed     string   `json:"sealed"`     // name in out/
	Size       int64    `json:"size"`       // bytes
	SHA256     string   `json:"sha256"`     // of the encrypted one
	Recipients []string `json:"recipients"` // public keys
	Passphrase bool     `json:"passphrase,omitempty"`
}

// splitRecord is a file of out/ that was cut into parts.
type splitRecord struct {
	Name   string         `json:"name"`
	SHA256 string         `json:"sha256"` // of the whole
	Parts  []archive.Part `json:"parts"`
	Page   string         `json:"page"` // the text that says how to join them
}

// approvedRecord is an archive that a person approved.
type approvedRecord struct {
	Archive string `json:"archive"`
	SHA256  string `json:"sha256"`
	By      string `json:"by"`
}

// lookedRecord is a picture that a person looked at.
type lookedRecord struct {
	File   string `json:"file"`   // in the archive
	SHA256 string `json:"sha256"` // as it leaves
	By     string `json:"by"`
}

// briefRecord names the fields of the write-up that were changed. What they say stands in the case alone.
type briefRecord struct {
	Fields string `json:"fields"`
	By     string `json:"by"`
}

// markedRecord is what a person said of a picture.
type markedRecord struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Marked bool   `json:"marked"`
	By     string `json:"by"`
}

// decidedRecord is what a person decided in a review.
type decidedRecord struct {
	Removed int    `json:"removed"` // values, which stand in the case's redaction.yaml
	Left    int    `json:"left"`
	By      string `json:"by"`
}
