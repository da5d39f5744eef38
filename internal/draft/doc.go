// Package draft looks at one system, reading only, and proposes an ask for what is there: which services run and which files they hold
// open for writing, logs with their rotated members and dates, configuration, crash reports, and which shipped parts fit. Each proposal
// carries its reason.
package draft
