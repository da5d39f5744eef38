//go:build !windows

package reach

// windowsEnv gives nothing: here is no Windows.
func windowsEnv(string) string { return "" }
