package redact
