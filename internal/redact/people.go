package redact

// articles stand before "user" in sentences about users, in which a verb mostly follows; auxiliaries are the verbs behind a name in others.
var ()
