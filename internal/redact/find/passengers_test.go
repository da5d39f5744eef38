package find

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Lists of passengers: ‹people› and «papers» go, all else stays.
func TestPassengers(t *testing.T) {
	for _, line := range []string{
		"PAX|1|‹RUD^KJERSTI›|«1981-04-12»|F|«N1234567»",
		"PID|1||4711||‹VIK^ANSELM^OLAV›|«19791102»|M",
		"OBX|1|NM|GATE^LANE|7|F", // words that everybody uses
		"a^b|c",
		"UNH+1+PAXLST:D:02B:UN:IATA'NAD+MS+TALLOW'NAD+FL+++‹RUD:KJERSTI:ANNE›+HARBOUR ROAD 4+TALLOW'DTM+329:«810412»'DTM+189:3103140612'",
		"DOC+P:110:111+«N1234567»'",
		"NAD+FL'",
		"1‹RUD/KJERSTIMRS› .L/MF7K2Q",
		"12‹VIK/ANSELM› .R/TKNE HK1",
		"1HOME/GATE and more", "4711/12 of them", "1RUD/KJ", "3GPP/IMS release 8", "3GPP/LTEMS", "1‹RUD/EVAMS› x",
	} {
		plain := strings.NewReplacer("‹", "", "›", "", "«", "", "»", "").Replace(line)
		got := []byte(plain)
		type mark struct {
			at   int
			text string
		}
		var marks []mark
		Passengers([]byte(plain), 0, len(plain),
			func(start, end int) { marks = append(marks, mark{start, "‹"}, mark{end, "›"}) },
			func(start, end int) { marks = append(marks, mark{start, "«"}, mark{end, "»"}) })
		for i := len(marks) - 1; i >= 0; i-- {
			got = append(got[:marks[i].at:marks[i].at], append([]byte(marks[i].text), got[marks[i].at:]...)...)
		}
		require.Equal(t, line, string(got))
	}
}

// A value that is set for the command behind it ends there; one in a file of settings goes on.
func TestValuesBeforeCommands(t *testing.T) {
	for line, want := range map[string]string{
		"PGPASSWORD=Jib&Genoa7 psql -h 192.0.2.7 -U x fares": "Jib&Genoa7", "DB_PASS=JibGenoa7 ./run.sh now": "JibGenoa7",
		"MYSQL_PWD=Jib-Genoa mysqldump fares > x.sql": "Jib-Genoa", "DB_PASS=wind over the quay": "wind over the quay",
		"DB_PASS=tide -7 brass": "tide -7 brass",
	} {
		at := strings.IndexByte(line, '=')
		start, end, ok := KeyedSecret([]byte(line), at, 0, KindOf([]byte(line[:at])))
		require.True(t, ok, line)
		require.Equal(t, want, line[start:end], line)
	}
}
