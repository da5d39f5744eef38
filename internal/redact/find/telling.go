package find

import (
	"envask/internal/redact/chars"
)

// What keys and their last words tell.

// Telling lists pieces of keys that say that their value is a secret.
var Telling = []string{
	"password", "passwd", "passphrase", "pwd", "secret", "token", "apikey", "accesskey", "privatekey", "sharedkey",
	"signingkey", "encryptionkey", "credential", "sessionkey", "sessionid", "authkey", "community", "passcode", "passphrase",
	"securitycode", "verificationcode", "smscode", "onetimecode", "mfacode", "pincode", "accesscode", "presharedkey", "storepass",
	"keypass", "psksecret", "keydata", "privkey", "hmackey", "masterkey", "cipherkey", "accountkey", "licensekey", "licencekey",
	"subscriptionkey", "activationkey", "storagekey", "deploykey", "wifikey", "wlankey", "networkkey",
	"erlangcookie", "seedphrase", "totpseed", "otpseed", "activationcode", "unlockcode", "pukcode", "authtok", "recoverykey", "unsealkey",
	"samlresponse", "samlrequest", "palavrapasse", "lozinka", "jelszo", "losenord",
	"passwort", "kennwort", "contrase", "senha", "motdepasse", "wachtwoord", "passord", "adgangskode", "heslo", "parola", "salasana",
}

// tellingGrams are the first three letters of the telling pieces.
var tellingGrams = func() *chars.GramSet {
	g := new(chars.GramSet)
	for _, t := range Telling {
		g.Add(t)
	}
	return g
}()

// tellingLast lists last words of keys that say so, but mean something else within a longer word.
var tellingLast = map[string]bool{"pass": true, "pin": true, "psk": true, "otp": true, "auth": true, "jsessionid": true, "phpsessid": true,
	"pw": true, "totp": true, "hotp": true, "cpin": true, "cvv": true,
	"cvc": true, "puk": true, "bindpw": true, "rootpw": true, "requirepass": true, "masterauth": true, "mdp": true, "clave": true,
	"smscode": true,
	"passw":   true, "psw": true, "pswd": true, "passwrd": true, "pasword": true, "dbpass": true, "userpass": true, "mypass": true,
	"sqlpass": true, "ftppass": true, "mailpass": true, "smtppass": true,
	"adminpass": true, "rootpass": true, "authpass": true, "privpass": true, "bindpass": true, "webpass": true,
	"wifipass": true, "loginpass": true,
	"sshpass": true, "vncpass": true, "ldappass": true, "snmppass": true,
	"radiuspass": true, "ipmipass": true, "certpass": true, "zippass": true, "sudopass": true, "becomepass": true, "vpnpass": true}

// weaklyTelling lists last words of keys whose value is a secret only when it looks like one.
var weaklyTelling = map[string]bool{"session": true, "sess": true, "sid": true, "key": true, "signature": true, "sig": true, "nonce": true,
	"code": true, "salt": true, "seed": true, "hmac": true, "cred": true, "creds": true, "inline": true}
