package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// tellingElsewhere are ends of telling keys whose letters are not those of ASCII.
var tellingElsewhere = [][]byte{[]byte("пароль"), []byte("Пароль"), []byte("ПАРОЛЬ"), []byte("кодовое слово"), []byte("κωδικός"),
	[]byte("密码"), []byte("密碼"), []byte("口令"),
	[]byte("パスワード"), []byte("비밀번호"), []byte("şifre"), []byte("Şifre"), []byte("hasło"), []byte("Hasło"), []byte("jelszó"), []byte("Jelszó"),
	[]byte("lykilorð"), []byte("Lykilorð"), []byte("lösenord"), []byte("Lösenord")}

// usersElsewhere are such keys before the names of accounts, in small letters.
var usersElsewhere = chars.WordSet(`käyttäjä käyttäjätunnus käyttäjänimi uživatel uživatelské-jméno používateľ użytkownik użytkownika
	användare användarnamn användarid felhasználó felhasználónév kullanıcı kullanıcı-adı nutzerkürzel
	пользователь логин користувач χρήστης 用户 用户名 使用者 ユーザー ユーザー名 ユーザ名 사용자 usuário
	lietotājs lietotājvārds`)

// kindElsewhere gives the kind of a key that has letters beyond ASCII.
func kindElsewhere(key []byte) KeyKind {
	for _, t := range tellingElsewhere {
		if bytes.HasSuffix(key, t) {
			return KeySecret
		}
	}
	if usersElsewhere.HasBytes(bytes.ToLower(key)) {
		return KeyUser
	}
	return 0
}
