package lexicon

import (
	"bytes"
	"sync"
)

// Class is what a key announces.
type Class uint8

// The classes.
const (
	None   Class = iota
	Secret       // its value is a secret
	Person       // its value is the name of a person or account
)

// Key is a row of the table of keys: the words at the end of a key that announce something, with one key at least that does and one that
// does not, although it looks like it.
type Key struct {
	Words   string // in small letters
	Class   Class
	Yes, No []string
}

// Keys is the table. A key is split where its words meet (dbPassword, DB_PASSWORD2, db-password); numbers at its end do not count. The
// longest row that a key ends with decides.
var Keys = []Key{
	{"password", Secret, []string{"password", "dbPassword", "DB_PASSWORD2", "spring.datasource.password", "bindPassword", "Neues Password"},
		[]string{"password_file", "PasswordPolicy", "passwordless", "password-length"}},
	{"passwd", Secret, []string{"passwd", "ROOT_PASSWD"}, []string{"passwd_file", "nopasswd"}},
	{"passphrase", Secret, []string{"passphrase", "keyPassphrase"}, []string{"passphrase_hint", "passphrase-prompt"}},
	{"passcode", Secret, []string{"passcode"}, []string{"passcode_length"}},
	{"pwd", Secret, []string{"pwd", "dbPwd"}, []string{"pwd_policy", "OLDPWD_DIR"}},
	{"pass", Secret, []string{"smtp_pass", "db.pass", "pass"}, []string{"bypass", "pass_count", "tests_passed"}},
	{"secret", Secret, []string{"secret", "clientSecret", "shared-secret"}, []string{"secret_name", "secretRef", "libsecret"}},
	{"secrets", Secret, []string{"secrets"}, []string{"secrets_dir", "secrets_path"}},
	{"token", Secret, []string{"token", "accessToken", "X-Auth-Token", "refresh_token"},
		[]string{"token_type", "tokenizer", "token_count", "next_token_id"}},
	{"tokens", Secret, []string{"api_tokens"}, []string{"max_tokens", "tokens", "num_tokens", "input_tokens"}},
	{"api key", Secret, []string{"apiKey", "X-Api-Key", "API_KEY"}, []string{"api_key_id", "api key name"}},
	{"access key", Secret, []string{"aws_secret_access_key", "accessKey"}, []string{"access_key_age", "access_key_id"}},
	{"secret key", Secret, []string{"secretKey", "SECRET_KEY"}, []string{"secretKeyRef", "secret_key_file"}},
	{"private key", Secret, []string{"privateKey", "private_key"}, []string{"private_key_path", "privateKeyFile"}},
	{"encryption key", Secret, []string{"encryptionKey"}, []string{"encryption_key_id"}},
	{"signing key", Secret, []string{"signing_key"}, []string{"signing_key_id"}},
	{"shared key", Secret, []string{"pre-shared-key", "sharedKey"}, []string{"shared_key_type"}},
	{"account key", Secret, []string{"AccountKey"}, []string{"account_key_name"}},
	{"master key", Secret, []string{"masterKey"}, []string{"master_key_version"}},
	{"psk", Secret, []string{"psk", "wpa_psk"}, []string{"psk_id", "psk-mode"}},
	{"credential", Secret, []string{"credential"}, []string{"credential_type", "credential-helper"}},
	{"credentials", Secret, []string{"credentials"}, []string{"credentials_file", "persist-credentials-path"}},
	{"one time code", Secret, []string{"oneTimeCode", "one-time code"}, []string{"one-time code length"}},
	{"recovery code", Secret, []string{"recoveryCode"}, []string{"recovery_code_count"}},
	{"otp", Secret, []string{"otp"}, []string{"otp_length", "otp-mode"}},
	{"pin", Secret, []string{"pin", "card_pin"}, []string{"pin_count", "gpio_pin_mode"}},
	{"user", Person, []string{"user", "db_user", "sessionUser"}, []string{"user_agent", "user_count", "superuser"}},
	{"user name", Person, []string{"dbUserName", "user_name"}, []string{"user_name_format"}},
	{"username", Person, []string{"username", "dbUsername"}, []string{"username_format", "username-length"}},
	{"login", Person, []string{"login"}, []string{"login_url", "last_login_time"}},
	{"operator", Person, []string{"operator"}, []string{"operator_count", "comparison"}},
	{"passenger", Person, []string{"passenger"}, []string{"passengers_total", "passenger_count"}},
	{"full name", Person, []string{"fullName", "full_name"}, []string{"full_name_length"}},
	{"first name", Person, []string{"firstName", "first_name"}, []string{"first_name_format"}},
	{"last name", Person, []string{"lastName", "last_name"}, []string{"last_name_format"}},
	{"given name", Person, []string{"givenName", "given_name"}, []string{"given_name_format"}},
	{"family name", Person, []string{"familyName"}, []string{"family_name_format"}},
	{"display name", Person, []string{"displayName"}, []string{"display_name_format"}},
	{"caller id name", Person, []string{"effective_caller_id_name"}, []string{"caller_id_number"}},
	{"surname", Person, []string{"surname"}, []string{"surname_length"}},
	{"owner", Person, []string{"owner"}, []string{"owner_id", "ownership"}},
}

// about are words that say that a key is about a secret and does not hold it, wherever they stand in it.
var about = wordsOf("max min num count length is has no use uses require required requires show hide allow allowed disable disabled " +
	"enable enabled public " +
	"next input output total last expired invalid")

// joined are words that are written as one.
var joined = map[string]string{"apikey": "api key", "accesskey": "access key", "secretkey": "secret key",
	"privatekey": "private key", "fullname": "full name", "givenname": "given name",
	"familyname": "family name", "displayname": "display name",
	"firstname": "first name", "lastname": "last name", "userpassword": "user password", "bindpassword": "bind password",
	"clientsecret": "client secret",
	"accesstoken":  "access token", "authtoken": "auth token", "sessiontoken": "session token", "rootpw": "root password",
	"username": "username", "accountkey": "account key"}

func wordsOf(text string) map[string]bool {
	m := map[string]bool{}
	for _, w := range bytes.Fields([]byte(text)) {
		m[string(w)] = true
	}
	return m
}

// table is the rows by their last words.
var table = sync.OnceValue(func() map[string][]*Key {
	m := map[string][]*Key{}
	for i := range Keys {
		words := bytes.Fields([]byte(Keys[i].Words))
		last := string(words[len(words)-1])
		m[last] = append(m[last], &Keys[i])
	}
	return m
})

// KeyClass gives what a key announces; parts splits it into its words.
func KeyClass(key []byte, parts func([]byte) [][]byte) Class {
	if len(key) == 0 || len(key) > 128 {
		return None
	}
	var words [][]byte
	for _, field := range bytes.Fields(key) {
		for _, w := range parts(field) {
			w = bytes.ToLower(w)
			if j, ok := joined[string(w)]; ok {
				words = append(words, bytes.Fields([]byte(j))...)
				continue
			}
			words = append(words, w)
		}
	}
	for len(words) > 1 && words[len(words)-1][0] >= '0' && words[len(words)-1][0] <= '9' {
		words = words[:len(words)-1]
	}
	if len(words) == 0 || len(words) > 8 {
		return None
	}
	class, longest := None, 0
	for _, row := range table()[string(words[len(words)-1])] {
		want := bytes.Fields([]byte(row.Words))
		if len(want) > longest && len(want) <= len(words) && equal(words[len(words)-len(want):], want) {
			class, longest = row.Class, len(want)
		}
	}
	if class == Secret {
		for _, w := range words[:len(words)-longest] {
			if about[string(w)] {
				return None
			}
		}
		if longest == 1 && len(words) == 1 && string(words[0]) == "tokens" {
			return None // counts of them, mostly
		}
	}
	if class == Person && len(words) > longest && about[string(words[0])] {
		return None
	}
	return class
}

func equal(a, b [][]byte) bool {
	for i := range a {
		if !bytes.Equal(a[i], b[i]) {
			return false
		}
	}
	return true
}
