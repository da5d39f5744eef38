package window

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Every zone of the table is one that can be loaded.
func TestWindowsZones(t *testing.T) {
	require.Greater(t, len(windowsTable()), 130)
	for name, zone := range windowsTable() {
		_, err := time.LoadLocation(zone)
		require.NoError(t, err, name)
	}
	require.Equal(t, "Europe/London", WindowsZone("GMT Standard Time\r\n").String())
	require.Equal(t, "Europe/Berlin", WindowsZone("w. europe standard time").String())
	require.Nil(t, WindowsZone("GMT Standard Time_dstoff"))
	require.Nil(t, WindowsZone(""))
}
