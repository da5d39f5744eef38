package site

import "envask/internal/keyfile"

func readFolder(m *keyfile.Map, s *System) {
	v := m.Value("folder")
	if v.Set() && v.Text == "" {
		v.Problem("folder: expected the path of a folder that holds a copy of the system's files")
	}
	s.Folder = v.Text
}
