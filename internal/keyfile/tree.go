package keyfile

// Tree gives a value of any form: mappings, lists, texts, numbers, yes and no. ok is false when it is not there.
func (m *Map) Tree(key string) (value any, ok bool) {
	n := m.find(key)
	if n == nil {
		return nil, false
	}
	if err := n.Decode(&value); err != nil {
		m.file.add(n.Line, n.Column, key+": cannot be read as a value")
		return nil, false
	}
	return value, true
}
