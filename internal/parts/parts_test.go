package parts

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
)

func compose(t *testing.T, choices ...Choice) *ask.Ask {
	t.Helper()
	file := filepath.Join(t.TempDir(), "ask.yaml")
	d := Draft{Name: "first", Vendor: "Ostrevane Gate Systems"}
	for _, c := range choices {
		d.Blocks = append(d.Blocks, c.Block())
	}
	text := Compose(d)
	require.NoError(t, os.WriteFile(file, text, 0o600))
	k, err := ask.Load(file)
	require.NoError(t, err, "%s", text)
	return k
}

func choice(p *Part) Choice {
	c := Choice{Part: p}
	if p.Value != nil {
		c.Value = p.Value.Example
	}
	return c
}

// Each part makes an ask that passes the check, alone and with all others; and its items say what they are for.
func TestEachPartIsAnAsk(t *testing.T) {
	found, err := filepath.Glob("data/*.yaml")
	require.NoError(t, err)
	require.Len(t, found, len(order), "each file has its line in the order")
	var all []Choice
	for _, p := range All() {
		t.Run(p.Name, func(t *testing.T) {
			require.NotEmpty(t, p.Title)
			require.NotEmpty(t, p.Takes)
			require.True(t, p.Value != nil || p.Fits.Windows || len(p.Fits.Programs)+len(p.Fits.Paths) > 0, "what it fits")
			k := compose(t, choice(p))
			require.Len(t, k.Items, len(choice(p).ids()))
			for _, it := range k.Items {
				require.NotEmpty(t, it.Why, it.ID)
				if p.Value == nil {
					require.True(t, strings.HasPrefix(it.ID, p.Name+"-"), it.ID)
				}
			}
			if p.expressions != "" {
				require.NotEmpty(t, k.Redaction)
			}
			require.Empty(t, regexp.MustCompile(`@[A-Z]+@`).FindString(choice(p).items()))
		})
		all = append(all, choice(p))
	}
	all = all[:len(all):len(all)]
	require.Empty(t, Clash(all))
	k := compose(t, all...)
	require.Greater(t, len(k.Items), 60)
	unit, err := ParseChoice("gate:systemd-unit=gate-agent@4.service")
	require.NoError(t, err)
	for _, it := range compose(t, unit).Items {
		require.Equal(t, []string{"gate"}, it.Of)
		require.True(t, strings.HasPrefix(it.ID, "gate-agent-4-"), it.ID)
	}
	require.Equal(t, "gate-agent-4-journal", Clash([]Choice{unit, unit}))
}

func TestParseChoice(t *testing.T) {
	for _, c := range []struct{ text, wrong string }{
		{"nginx", ""},
		{"web:nginx", ""},
		{"java=/opt/gate agent", ""},
		{"ngnix", "there is no part of that name"},
		{"we b:nginx", `"we b" is no name of a role`},
		{"nginx=1.2", "the part nginx takes no value"},
		{"java", "the part java needs the folder of the service"},
		{"java=opt/gate", `"opt/gate" is no folder of the service`},
		{"java=/opt/*", `"/opt/*" is no folder`},
		{"java=/opt/it's", `"/opt/it's" is no folder`},
		{"systemd-unit=a'; reboot", "is no name of the unit"},
	} {
		_, err := ParseChoice(c.text)
		if c.wrong == "" {
			require.NoError(t, err, c.text)
		} else {
			require.ErrorContains(t, err, c.wrong, c.text)
		}
	}
}

// Nothing that a part runs is a word that writes, starts or stops: what looks like one is looked at here, once.
func TestPartsOnlyRead(t *testing.T) {
	writes := regexp.MustCompile(`\b(rm|mv|cp|tee|touch|mkdir|chmod|chown|kill|pkill|reload|restart|start|stop|enable|disable|flush\w*|truncate|reset|` +
		`delete|insert|update|drop|alter|create|write|sync|dd|mktemp|install)\b`)
	fine := []string{"install socat to ask its socket"}
	for _, p := range All() {
		for _, it := range compose(t, choice(p)).Items {
			run, ok := it.Spec.(ask.Run)
			if !ok {
				continue
			}
			for _, line := range run.Commands {
				text := line
				for _, f := range fine {
					text = strings.ReplaceAll(text, f, "")
				}
				require.Empty(t, writes.FindString(text), "%s: %s", it.ID, line)
				require.NotRegexp(t, `[^2&]>[^&]`, strings.ReplaceAll(strings.ReplaceAll(text, "2>/dev/null", ""), ">&2", ""),
					"%s writes into a file: %s", it.ID, line)
			}
		}
	}
}
