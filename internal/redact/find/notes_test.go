package find

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var noMarks = strings.NewReplacer("«", "", "»", "", "‹", "", "›", "")

// notesOf puts what was found between marks: « » for secrets, ‹ › for accounts and numbers.
func notesOf(text string) string {
	b, out, at := []byte(text), "", 0
	Notes(b, 0, len(b), func(start, end int, kind Noted) {
		open, shut := "‹", "›"
		if kind == NotedSecret {
			open, shut = "«", "»"
		}
		out += text[at:start] + open + text[start:end] + shut
		at = end
	})
	return out + text[at:]
}

// What people tell each other, in several languages; what only speaks of passwords and accounts stays.
func TestNotes(t *testing.T) {
	for _, want := range []string{
		"password for the kiosk is now «Herring-Gull5», ok?",
		"06:12 Passwort vom Kiosk ist jetzt «Wellenbrecher5», Benutzer ‹kiosk4›",
		"mot de passe de la borne : «Bateau-ivre7»",
		"contraseña nueva del quiosco: «Farola-88»",
		"wachtwoord van de zuil is «Meeuw!22»",
		"passord til skjermen: «Tareskog3»",
		"hasło do bramki: «Mewa_2026»",
		"palavra-passe: «Gaivota#9»",
		"bruker: ‹skjerm2›",
		"tlf ‹22 55 01 90›, ring etter kl 7",
		"tel. ‹+34 910 555 017›.",
		"the password is wrong",
		"password: see the ticket",
		"the password policy is v2.14",
		"user agents: 4711",
		"login: 06:12:01",
		"phone 4 rings",
		"password log into 1password, select it",
		"password for x is [redacted:worded-secret] now",
		"password of it is mail-2a@host-2b.example",
	} {
		bare := noMarks.Replace(want)
		require.Equal(t, want, notesOf(bare))
	}
}

// Lists of accounts, and lists of other things.
func TestAccountLists(t *testing.T) {
	for _, want := range []string{
		`{"members": ["‹msorley›", "‹tquill›"], "tags": ["alpha"]}`,
		"users:\n  - ‹msorley›\n  - ‹fare_app›\nlanes:\n  - north\n",
		"users:\n- ‹msorley›\nlanes:\n- north\n",
		"valid users = ‹msorley›, ‹tquill›, @night",
		"admins=‹msorley› ‹tquill›",
		`operators = ["‹Mirren Sorley›"]`,
		"users: please log in again",
		"users = 41",
		"members: [",
		"owners:\n",
		"active users: north, south",
		"numbers: [one, two]",
	} {
		text := noMarks.Replace(want)
		b, out, at := []byte(text), "", 0
		AccountLists(b, 0, len(b), func(start, end int) {
			out += text[at:start] + "‹" + text[start:end] + "›"
			at = end
		})
		require.Equal(t, want, out+text[at:])
	}
}

// Whatever the text is, what is found lies in it and in order.
func FuzzNotes(f *testing.F) {
	f.Add([]byte("password for it is now Herring-Gull5\nusers:\n - msorley\n tel 020 7946 0123"))
	f.Add([]byte("admins = [\"a\", 'b"))
	f.Fuzz(func(t *testing.T, b []byte) {
		last := 0
		Notes(b, 0, len(b), func(start, end int, _ Noted) {
			require.True(t, last <= start && start < end && end <= len(b))
			last = end
		})
		AccountLists(b, 0, len(b), func(start, end int) { require.True(t, start <= end && end <= len(b)) })
		GivenNames(b, 0, len(b), func(start, end int) { require.True(t, start < end && end <= len(b)) })
	})
}
