// Package window holds the time that matters in a case: one or more spans, always with a zone.
package window
