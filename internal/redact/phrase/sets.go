package phrase

import (
	"envask/internal/redact/chars"
)

// sets are words that templates call by a name of the set.
var sets = map[string]*chars.Words{
	// Those behind which a secret stands.
	"TELLING": chars.WordSet(`password passwd passphrase passcode secret community pwd psk psksecret apikey passwort kennwort senha
		pre-shared-key wpa-psk wpa2-psk encrypted-password plain-text-password auth-pass priv-pass authentication-key
		encryption-key server-key shared-key shared-secret auth-password priv-password api-key auth-key user-password
		admin-password bind-password authentication-password privacy-password privacy-key hex-key ascii-key hexkey
		community-string key-string auth-key`),
	// The last parts of words that announce a secret as a whole: SECRET_KEY, AuthLDAPBindPassword.
	"PART": chars.WordSet(`password passwd passphrase passcode pwd psk secret token apikey hexkey key pass pin pw`),
	// Those of them that mean nothing else.
	"PARTPASS": chars.WordSet(`password passwd passphrase passcode psk secret`),
	// The first words of lines in the configurations of devices and servers.
	"VERB": chars.WordSet(`enable username user snmp-server snmp radius-server radius tacacs-server tacacs crypto pre-shared-key neighbor
		ip ipv6 ntp standby vrrp ppp wpa-psk wpa2-psk wpa_cli set key-string area isis machine default peer aaa server
		wlan wireless ssid security interface bgp ospf eigrp glbp hsrp create alter grant identified localuser
		local-user super add proxy credentials account administrator admin authentication-key key psk server-private
		address mgmt-user dot1x aaa-server pac hwtacacs-server key-chain snmp-agent ldap mysql vpn tunnel console line
		config define trap-receiver option failover nmcli authentication`),
	// How a login went.
	"RESULT": chars.WordSet(`failed failure succeeded success successful denied granted rejected accepted attempt attempts invalid
		incorrect mismatch expired authenticated authentication changed required expiry requested reset opened closed
		started ended`),
	// What people do to things.
	"DEED": chars.WordSet(`answered escorted accompanied opened closed approved modified created updated changed reported reviewed
		requested granted revoked initiated
		serviced prepared resolved cancelled canceled released confirmed rejected uploaded registered ordered booked
		invited edited locked unlocked signed owned performed entered handled submitted acknowledged received
		authorized authorised deleted added sent checked verified assigned started stopped restarted installed
		configured triggered committed merged pushed tested written raised escalated taken made done`),
	// Those of them that programs do not do.
	"ACT": chars.WordSet(`attempt attempted console configured uploaded approved requested assigned acknowledged signed entered reported
		submitted authorized authorised reviewed confirmed cancelled canceled rejected booked locked unlocked modified
		changed deleted edited opened cleared overridden`),
	// What follows the name of whom something is said.
	"AFTER": chars.WordSet(`logged signed opened connected disconnected authenticated from failed locked unlocked timed was has is had
		cannot could denied assigned not via does did by at on in out with using to authorized rejected accepted expired`),
	"ARTICLE": chars.WordSet(`the a an this that these each every any end new current another other others your our their its sample per if
		when while and or to of in as by with without make set run between per-user real normal regular single multi
		root unprivileged privileged non-root effective calling`),
	// How a value is written that follows.
	"HOW": chars.WordSet(`0 3 4 5 6 7 8 9 10 enc ascii ascii-text hex plain plaintext plain-text encrypted cipher simple
		irreversible-cipher md5 sha sha1 sha256 sha-256 hmac-md5 hmac-sha-256 string des aes 3des aes128 aes256
		unencrypted clear cleartext hash hashed reversible reversible-cipher aes-128 aes-256 128 192 256 local remote`),
}
