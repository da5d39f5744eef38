package find

import (
	"bytes"
	"strings"

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
	"wpakey", "wpa2key", "wpa3key", "wepkey", "vouchercode", "guestcode", "doorcode", "alarmcode", "entrycode", "keypadcode",
	"cryptopass", "keymaterial", "snmpcomm", "keyunlock",
	"sensitivepropskey", "samlresponse", "samlrequest", "palavrapasse", "lozinka", "jelszo", "losenord",
	"passwort", "kennwort", "parool", "slaptazodis", "authphrase", "privphrase", "contrase", "senha", "motdepasse", "wachtwoord",
	"passord", "adgangskode", "heslo", "parola", "salasana",
}

// tellingGrams are the first three letters of the telling pieces.
var tellingGrams = chars.Late[chars.GramSet]{Build: func() *chars.GramSet {
	g := new(chars.GramSet)
	for _, t := range Telling {
		g.Add(t)
	}
	return g
}}

// tellingLast lists last words of keys that say so, but mean something else within a longer word.
var tellingLast = chars.WordSet(`
	pass pin vmpin psk otp auth jsessionid phpsessid pw totp hotp cpin cvv cvc puk bindpw rootpw requirepass masterauth mdp clave
	smscode passw psw pswd passwrd pasword dbpass userpass mypass sqlpass ftppass mailpass smtppass adminpass rootpass authpass
	privpass bindpass webpass wifipass loginpass sshpass vncpass ldappass snmppass radiuspass ipmipass certpass zippass sudopass
	becomepass vpnpass tkn dbpw userpw adminpw loginpw ftppw sqlpw`)

// entries are the last words of keys that begin with a short word for a password, and say how it came or how it is written: pw_attempt.
var entries = chars.WordSet(`attempt attempted entered tried given used
	 issued supplied provided received typed guess old new current plain clear value`)

// weaklyTelling lists last words of keys whose value is a secret only when it looks like one.
var weaklyTelling = chars.WordSet(`
	tok csrf xsrf secure session sess sid key signature sig nonce code salt seed hmac cred creds inline`)

// mailboxKeys are those whose value is a name with its address: From: Ilka Brandvold <…> (RFC 5322, section 3.4).
var mailboxKeys = chars.WordSet(`from to cc bcc replyto sender author committer tagger maintainer deliveredto signedoffby
	coauthoredby reviewedby
	testedby ackedby reportedby passertedidentity ppreferredidentity remotepartyid contact referredby referto`)

// partKeys are those that name a person within something that does.
var partKeys = []*chars.Words{chars.WordSet("name first last given family middle full display cn sn"), PersonRoles, NamedThings}

// NamedThings are keys behind which people stand, and things as well, as persons and things have them.
var NamedThings = chars.WordSet("name displayname attn attention fao signed issuedto bookedfor registeredto licensedto " +
	"preparedfor requestedfor onbehalfof cc regards")

// AddressKeys are those behind which an IPv4 address may stand as one number.
var AddressKeys = chars.WordSet(`ip ipaddr ipaddress ipv ipvaddress ipnum ipnumber iplong srcip sourceip srcipaddr dstip destip
	destinationip dstipaddr clientip remoteip serverip
	peerip hostip localip natip gatewayip deviceip userip ipsrc ipdst ipfrom ipto startip endip framedipaddress nasipaddress inetaddr`)

// tellingPhone lists keys, and last words of keys, whose value is a telephone number.
var tellingPhone = chars.WordSet(`
	mobilenumber faxnumber telnumber cellnumber homephone workphone phones telephonenumber contactphone mobilephonenumber phoneno
	telno mobileno
	mob mobil puh
	imei phone phonenumber telephone tel mobile mobilephone cell cellphone fax msisdn callerid telefon telefone telemovel telefono handy
	gsm contactnumber imsi callernumber callingnumber callednumber callerno worknumber homenumber emergencyphone smsnumber whatsapp`)

// tellingUser lists whole keys whose value names a person.
var tellingUser = chars.WordSet(`
	domainadmin adminlogin osdjoinaccount deviceowner jobowner
	dblogin sqllogin ftplogin sftplogin smtplogin maillogin ldaplogin authname userrealname
	operatorid userorgroupname secname securityname mcauser ldapuser
	who grantedto grantor grantee issuedto handedto givento onbehalfof watcher watchers admin bearbeiter sachbearbeiter melder
	ansprechperson techniker mitarbeiter demandeur technicien operatore tecnico
	saksbehandler handlaggare oppdragsgiver zglaszajacy
	adminuser adminname
	employeename userprincipalname upn agentname actor actorname sendername managername visitorname registeredowner lastloggedonuser
	lastloggedonsamuser loggedonuser currentuser
	reportedby reviewedby grantedby revokedby initiatedby servicedby preparedby resolvedby cancelledby canceledby releasedby
	confirmedby rejectedby uploadedby registeredby orderedby bookedby invitedby
	lasteditedby acct auid gecos memberuid principal principalname principalid enduserid alternateid requestor usrname ugi
	mailnickname kunde kundin passagier ansprechpartner klant reiziger
	realname contactperson createdby modifiedby updatedby lastmodifiedby requestedby approvedby owner ownername author
	drivername guest guestname member membername customerfirstname customerlastname nickname supervisor assignee reporter
	logname identity usr usrname gitauthorname gitcommittername authorname committername userdisplayname actordisplayname maidenname
	ruser dbusr remoteuser xremoteuser xforwardeduser sudouser authuser targetusername subjectusername uid cardholder cardholdername
	recipient recipientname familyname
	vorname nachname apellido apellidos prenom cognome sobrenome apelido fornavn etternavn fornamn efternamn voornaam achternaam
	setid benutzer benutzername benutzerkennung benutzerkonto anmeldename utilisateur identifiant usuario utilizador gebruiker
	gebruikersnaam utente nomeutente kasutaja kasutajanimi notandi notandanafn vartotojas naudotojas brukernavn brugernavn brugerid
		felhasznalo utilizator eapid clntuser contactname committer
		requester approver reviewer submitter
	middlename engineer technician passengerfirstname passengerlastname samaccountname effectiveuser dbuser userlogin loginuser user
	assignedto openedby closedby lockedby changedby signedby ownedby performedby enteredby handledby submittedby acknowledgedby
	receivedby authorizedby
	authorisedby deletedby addedby editedby sentby checkedby verifiedby loggedinas runas
	username uname authid userid login loginname account accountname operator operatorname passenger passengername
	fullname firstname lastname
	surname givenname customer customername contact contactname staff staffname employee clerk holder holdername`)

// tellingWords say in a configuration or a sentence that a secret follows.
var tellingWords = chars.WordSet(`password passwd passphrase passcode secret community key key-string pwd pre-shared-key
	authentication-key encryption-key
	message-digest-key server-key md5 sha wpa-psk wpa2-psk psk psksecret encrypted-password plain-text-password auth-pass priv-pass
	ascii-text ascii hex
	authentication pin otp code token pass sha1 sha256 sha-256 shared-secret auth-password priv-password passwort kennwort senha
	plain login enc
	key-chain simple by auth authentication-password privacy-password privacy-key api-token access-token auth-token apikey eap xauth
	api-key auth-key user-password admin-password bind-password hex-key ascii-key encrypted cipher passwords aes des string text`)

// hasTelling says whether one of the words of a line is a telling one.
func hasTelling(line []byte) bool {
	for _, w := range bytes.Fields(line) {
		l := strings.ToLower(string(w))
		if tellingWords.Has(l) || strings.Contains(l, "key") || strings.Contains(l, "password") || strings.Contains(l, "authentication") {
			return true
		}
	}
	return false
}

// PersonRoles are keys behind which people stand, and programs, too: what is there must look like a name.
var PersonRoles = chars.WordSet(`driver sender manager accountmanager teacher doctor patient student subscriber visitor resident
	applicant payee payer beneficiary cashier conductor captain skipper
	officer inspector dispatcher mechanic attendee participant organizer organiser witness escort spouse nextofkin emergencycontact
	addressee consignee traveller traveler cn sn
	callerid calleridname effectivecalleridname outboundcalleridname fn gn ln givenname`)

// documentKeys are keys of the numbers that states give to people and to their papers, and of dates of birth, without signs.
var documentKeys = chars.WordSet(`passport passportno passportnr passportnum passportnumber passportid documentnumber
	traveldocument traveldocumentnumber identitycard identitycardnumber idcard idcardno idcardnumber
	nationalid nationalidnumber nationalidentitynumber socialsecuritynumber socialsecurityno ssn personnummer fodselsnummer
	personalidentitynumber personalid cpr cprnumber dni nie nif cpf codicefiscale bsn pesel taxpayerid
	driverlicense driverslicense driverlicence driverslicence drivinglicence drivinglicense
	driverlicensenumber drivinglicencenumber visanumber residencepermit residencepermitnumber
	plate kennzeichen vrm vrn vehicleregistration fodselsdato fodt syntymaaika datadenascimento datadinascita datumnarozeni
	licenseplate licenceplate numberplate platenumber
	employeeid employeeno employeenr employeenumber personnelid personnelno personnelnumber personalnummer personalnr
	cardno cardid keycard keycardno staffid staffno staffnumber badge badgeid badgeno badgenumber crewnumber crewno
	card documentno documentnr born geboren pasnummer passnummer
	dob dateofbirth birthdate birthday birthdt geburtsdatum fechanacimiento datenaissance`)
