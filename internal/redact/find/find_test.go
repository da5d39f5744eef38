package find

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/chars"
)

// finders are those that look at signs, with the signs at which they are asked.
var finders = map[string]struct {
	signs string
	find  func(b []byte, at, free int) (int, int, bool)
}{
	"option": {"-", Option}, "url": {":@", URLCredentials}, "authorization": {"=:>", Authorization}, "cookie": {"=:>", Cookie},
	"worded": {"\t(,;|-", Worded}, "bearer": {"B", Bearer}, "jwt": {"J", JWT}, "service token": {"_-.A", ServiceToken},
	"hash": {"${*:", PasswordHash}, "mail": {"@%&\\", Mail}, "user": {"=:>", User}, "log user": {" \t()[=@\\/:-,?|", LogUser},
	"owner": {" ", Owner}, "home": {"/\\%", Home}, "directory": {"=", DistinguishedName}, "mailbox": {"=:>", MailboxName},
	"part": {"=:>", PartName}, "phone": {"=:>", Phone}, "international": {"+", InternationalPhone}, "host": {".", Host},
	"ipv4": {".-", IPv4}, "ipv6": {":%", IPv6}, "mac": {":-.", MAC}, "bare mac": {"=:>", BareMAC}, "private key": {"-", PrivateKey},
}

// What each finder gives lies within the text and behind what is taken already, whatever the text.
func FuzzFinders(f *testing.F) {
	for _, name := range []string{"../testdata/notations.txt", "../testdata/samples.txt"} {
		data, err := os.ReadFile(name)
		require.NoError(f, err)
		for i, line := range strings.Split(string(data), "\n") {
			if i%8 == 0 {
				f.Add([]byte(line), uint8(i))
			}
		}
	}
	pad := bytes.Repeat([]byte{' '}, 2*Edge)
	f.Fuzz(func(t *testing.T, text []byte, taken uint8) {
		b := append(append(append([]byte{}, pad...), text...), pad...)
		free := min(len(pad)+int(taken), len(b))
		for name, by := range finders {
			for at := len(pad); at < len(pad)+len(text); at++ {
				if strings.IndexByte(by.signs, b[at]) < 0 {
					continue
				}
				if start, end, ok := by.find(b, at, free); ok && end > start {
					require.True(t, start >= 0 && end <= len(b), "%s: %d to %d of %d", name, start, end, len(b))
				}
			}
		}
	})
}

// A key says what its value is in whatever case it is written, and says nothing as a part of another word.
func TestKindOf(t *testing.T) {
	for key, want := range map[string]KeyKind{
		"user.": KeyUser, "user.lo": 0, "User1.Name": KeyUser, "User1.Code": KeySecret, "user.login": KeyUser,
		"started_by": KeyUser, "exportedBy": KeyUser, "sorted_by": 0, "satisfied_by": 0, "stand_by": 0,
		"password": KeySecret, "DB_PASSWORD": KeySecret, "spring.datasource.password": KeySecret,
		"X-Api-Key": KeySecret, "Set-Cookie": KeyCookie,
		"enable_password": KeySecret, "enableSecret": KeySecret, "requirePassword": 0, "allowEmptyPassword": 0,
		"user": KeyUser, "dbUserName": KeyUser, "phone": KeyPhone,
		"passport_no": KeyDocument, "dateOfBirth": KeyDocument, "docNo": 0, "licenceNumber": 0, "pw_attempt": KeySecret,
		"password_file": 0, "tokenizer": 0, "publicKey": 0, "lane": 0, "TokenManager.java": 0,
	} {
		require.Equal(t, want, KindOf([]byte(key))&(KeySecret|KeyUser|KeyPhone|KeyCookie|KeyDocument), key)
	}
}

// Names of people are told from accounts of services, paths and aliases.
func TestIsPerson(t *testing.T) {
	for _, name := range []string{"itostrund", "Ilvar Tostrund", "m.quintela", "TOSTRUND/ILVAR", "O'Brien", "gate_rw"} {
		require.True(t, IsPerson([]byte(name)), name)
	}
	for _, name := range []string{"root", "postgres", "/etc/passwd", "user-2a", "x", "4711"} {
		require.False(t, IsPerson([]byte(name)), name)
	}
	require.Equal(t, 9, chars.NameAt([]byte("itostrund: gone"), 0))
}

// What a document says to machines goes as a whole, and only where both of its lines are whole.
func TestMachineReadable(t *testing.T) {
	const name, numbers = "P<NORMOE<<RAGNHILD<<<<<<<<<<<<<<<<<<<<<<<<<<", "L898902C36NOR7408122F1204159ZE184226B<<<<<10"
	for text, want := range map[string][]string{
		name + "\n" + numbers + "\n":     {"NORMOE<<RAGNHILD", numbers},
		name + "\r\n" + numbers:          {"NORMOE<<RAGNHILD", numbers},
		name + "\n" + numbers[1:] + "\n": nil,
		name + "\n" + name + "\n":        nil,
		numbers + "\n" + numbers + "\n":  nil,
		name + "\n":                      nil,
		"I<NORL898902C36<<<<<<<<<<<<<<<\n7408122F1204159NOR<<<<<<<<<<<6\nMOE<<RAGNHILD<<<<<<<<<<<<<<<<<\n": {
			"NORL898902C36", "7408122F1204159NOR<<<<<<<<<<<6", "MOE<<RAGNHILD"},
	} {
		var got []string
		MachineReadable([]byte(text), 0, func(start, end int) { got = append(got, text[start:end]) })
		require.Equal(t, want, got, text)
	}
}

func TestFormParts(t *testing.T) {
	const head = "Content-Disposition: form-data; name=\""
	for text, want := range map[string]string{
		head + "j_username\"\r\n\r\nitostrund\r\n--x\r\n" + head + "j_password\"\r\n\r\n": "itostrund",
		head + `j_username\"\r\n\r\nitostrund\r\n--x\r\n` + head + `j_password\"\r\n\r\n`: "itostrund",
		head + "lane\"\r\n\r\nitostrund\r\n--x\r\n" + head + "j_password\"\r\n\r\n":       "",
		head + "j_password\"\r\n\r\n": "",
		"password=":                   "",
	} {
		b := []byte(text + "Wn4-Brine!k2\r\n--x--")
		from, to := accountOfForm(b, len(text), 0)
		require.Equal(t, want, string(b[from:to]), text)
	}
}
