package reach

import (
	"strings"

	"golang.org/x/sys/windows/registry"
)

// windowsEnv gives what Windows calls a folder, as the machine's settings have it, so that the core reads no environment.
func windowsEnv(name string) string {
	for _, place := range []string{`SOFTWARE\Microsoft\Windows\CurrentVersion`,
		`SYSTEM\CurrentControlSet\Control\Session Manager\Environment`} {
		k, err := registry.OpenKey(registry.LOCAL_MACHINE, place, registry.QUERY_VALUE)
		if err != nil {
			continue
		}
		value := name
		switch name {
		case "ProgramFiles":
			value = "ProgramFilesDir"
		case "ProgramFiles(x86)":
			value = "ProgramFilesDir (x86)"
		}
		text, _, err := k.GetStringValue(value)
		k.Close()
		if err == nil && text != "" {
			if full, err := registry.ExpandString(text); err == nil {
				return full
			}
		}
	}
	return usualFolders[strings.ToLower(name)]
}
