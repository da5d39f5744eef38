package find

// KeyRow is a row of what is written down about keys: the words at their end that announce something, with keys that do and keys that do
// not, although they look like it. KindOf decides; a test holds both together.
type KeyRow struct {
	Words   string // in small letters
	Kind    KeyKind
	Yes, No []string
}

// KeyRows are the keys that systems have most.
var KeyRows = []KeyRow{
	{"password", KeySecret, []string{"password", "dbPassword", "DB_PASSWORD2", "spring.datasource.password", "bindPassword",
		"Neues Password"},
		[]string{"password_file", "PasswordPolicy", "passwordless", "password-length"}},
	{"passwd", KeySecret, []string{"passwd", "ROOT_PASSWD"}, []string{"passwd_file", "nopasswd"}},
	{"passphrase", KeySecret, []string{"passphrase", "keyPassphrase"}, []string{"passphrase_hint", "passphrase-prompt"}},
	{"passcode", KeySecret, []string{"passcode"}, []string{"passcode_length"}},
	{"pwd", KeySecret, []string{"pwd", "dbPwd"}, []string{"pwd_policy", "OLDPWD_DIR"}},
	{"pass", KeySecret, []string{"smtp_pass", "db.pass", "pass"}, []string{"bypass", "pass_count", "tests_passed"}},
	{"secret", KeySecret, []string{"secret", "clientSecret", "shared-secret"}, []string{"secret_name", "secretRef", "libsecret"}},
	{"secrets", KeySecret, []string{"secrets"}, []string{"secrets_dir", "secrets_path"}},
	{"token", KeySecret, []string{"token", "accessToken", "X-Auth-Token", "refresh_token"},
		[]string{"token_type", "tokenizer", "token_count"}},
	{"api key", KeySecret, []string{"apiKey", "X-Api-Key", "API_KEY"}, []string{"api key name"}},
	{"access key", KeySecret, []string{"aws_secret_access_key", "accessKey"}, []string{"access_key_age"}},
	{"secret key", KeySecret, []string{"secretKey", "SECRET_KEY"}, []string{"secretKeyRef", "secret_key_file"}},
	{"private key", KeySecret, []string{"privateKey", "private_key"}, []string{"private_key_path", "privateKeyFile"}},
	{"encryption key", KeySecret, []string{"encryptionKey"}, []string{"encryption_key_file"}},
	{"signing key", KeySecret, []string{"signing_key"}, []string{"signing_key_file"}},
	{"shared key", KeySecret, []string{"pre-shared-key", "sharedKey"}, []string{"shared_key_type"}},
	{"account key", KeySecret, []string{"AccountKey"}, []string{"account_key_name"}},
	{"master key", KeySecret, []string{"masterKey"}, []string{"master_key_version"}},
	{"psk", KeySecret, []string{"psk", "wpa_psk"}, []string{"psk_id", "psk-mode"}},
	{"credential", KeySecret, []string{"credential"}, []string{"credential_type", "credential-helper"}},
	{"credentials", KeySecret, []string{"credentials"}, []string{"credentials_file", "persist-credentials-path"}},
	{"one time code", KeySecret, []string{"oneTimeCode", "one-time code"}, []string{"one-time code length"}},
	{"recovery code", KeySecret, []string{"recoveryCode"}, []string{"recovery_code_count"}},
	{"otp", KeySecret, []string{"otp"}, []string{"otp_length", "otp-mode"}},
	{"pin", KeySecret, []string{"pin", "card_pin"}, []string{"pin_count", "gpio_pin_mode"}},
	{"user", KeyUser, []string{"user", "db_user", "sessionUser"}, []string{"user_agent", "user_count", "superuser"}},
	{"user name", KeyUser, []string{"dbUserName", "user_name"}, []string{"user_name_format"}},
	{"username", KeyUser, []string{"username", "dbUsername"}, []string{"username_format", "username-length"}},
	{"login", KeyUser, []string{"login"}, []string{"login_url", "last_login_time"}},
	{"operator", KeyUser, []string{"operator"}, []string{"operator_count", "comparison"}},
	{"passenger", KeyUser, []string{"passenger"}, []string{"passengers_total", "passenger_count"}},
	{"full name", KeyUser, []string{"fullName", "full_name"}, []string{"full_name_length"}},
	{"first name", KeyUser, []string{"firstName", "first_name"}, []string{"first_name_format"}},
	{"last name", KeyUser, []string{"lastName", "last_name"}, []string{"last_name_format"}},
	{"given name", KeyUser, []string{"givenName", "given_name"}, []string{"given_name_format"}},
	{"family name", KeyUser, []string{"familyName"}, []string{"family_name_format"}},
	{"display name", KeyPart, []string{"displayName"}, []string{"display_name_format"}},
	{"caller id name", KeyPart, []string{"effective_caller_id_name"}, []string{"caller_id_number"}},
	{"surname", KeyUser, []string{"surname"}, []string{"surname_length"}},
	{"owner", KeyUser, []string{"owner"}, []string{"owner_id", "ownership"}},
}
