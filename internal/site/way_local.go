package site

import "envask/internal/keyfile"

func readLocal(m *keyfile.Map, _ *System) {
	if !m.Bool("local", true) {
		m.Problem("local: only true has a meaning")
	}
}
