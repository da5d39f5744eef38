package find

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
)

// MinSecret is how long a secret is at least that is removed everywhere.
const MinSecret = 6

// CommonWords are too common to be removed everywhere, even when one was found next to a key.
var CommonWords = chars.WordSet(`password passwd secret token changeme default example enabled disabled required optional unknown
	invalid expired missing success failure failed passed accepted rejected granted denied error warning timeout
	bearer basic digest negotiate cookie session string number boolean integer object access refresh request response
	client server service system gateway terminal boarding ticket device status result active inactive pending
	internal external public private primary secondary production staging testing development february september
	october november december monday tuesday wednesday thursday saturday sunday connected disconnected
	name user login admin account from with this that have been true false null none start stop info debug`)

// tellingPhone lists keys, and last words of keys, whose value is a telephone number.
var tellingPhone = chars.WordSet(`
	mobilenumber faxnumber telnumber cellnumber homephone workphone phones telephonenumber contactphone mobilephonenumber phoneno
	telno mobileno
	phone phonenumber telephone tel mobile mobilephone cell cellphone fax msisdn callerid telefon telefone telemovel telefono handy
	gsm contactnumber imsi callernumber callingnumber callednumber callerno worknumber homenumber emergencyphone smsnumber whatsapp`)

// tellingUser lists whole keys whose value names a person.
var tellingUser = chars.WordSet(`
	operatorid employeename userprincipalname upn agentname sendername managername visitorname registeredowner lastloggedonuser
	lastloggedonsamuser loggedonuser currentuser
	reportedby reviewedby grantedby revokedby initiatedby servicedby preparedby resolvedby cancelledby canceledby releasedby
	confirmedby rejectedby uploadedby registeredby orderedby bookedby invitedby
	lasteditedby acct auid gecos memberuid principal principalname principalid enduserid alternateid requestor usrname ugi
	mailnickname kunde kundin passagier ansprechpartner klant reiziger
	realname contactperson createdby modifiedby updatedby lastmodifiedby requestedby approvedby owner ownername author
	drivername guest guestname member membername customerfirstname customerlastname nickname supervisor assignee reporter
	logname identity usr usrname gitauthorname gitcommittername authorname committername userdisplayname actordisplayname maidenname
	ruser remoteuser xremoteuser xforwardeduser sudouser authuser targetusername subjectusername uid cardholder cardholdername
	recipient recipientname familyname
	vorname nachname apellido apellidos prenom cognome sobrenome apelido fornavn etternavn fornamn efternamn voornaam achternaam
	benutzer benutzername utilisateur usuario utilizador gebruiker committer requester approver reviewer submitter
	middlename engineer technician passengerfirstname passengerlastname samaccountname effectiveuser dbuser userlogin loginuser user
	assignedto openedby closedby lockedby changedby signedby ownedby performedby enteredby handledby submittedby acknowledgedby
	receivedby authorizedby
	authorisedby deletedby addedby editedby sentby checkedby verifiedby loggedinas runas
	username userid login loginname account accountname operator operatorname passenger passengername fullname firstname lastname
	surname givenname customer customername contact contactname staff staffname employee clerk holder holdername`)

// serviceAccounts stay: they are the same everywhere and tell the vendor who did it.
var serviceAccounts = chars.WordSet(`
	root daemon nobody admin administrator system www-data nginx postgres mysql sshd svc service guest anonymous bin mail syslog
	systemd unknown local localhost user default none messagebus gdm lightdm ntp chrony backup operator lp games man news uucp proxy
	list irc gnats _apt sync halt shutdown tomcat apache httpd docker containerd redis mongodb rabbitmq elasticsearch oracle sa dbo
	networkservice localservice authenticated everyone users wheel sudo adm tty disk audio video staff nt authority system32 cron
	crond kernel systemd-network systemd-resolve systemd-timesync dnsmasq avahi polkitd rpc statd test demo null nologin unset new
	sys gopher ftp dbus tss abrt unbound named bind postfix dovecot dovenull exim debian-exim exim4 proftpd vsftpd pure-ftpd
	opensmtpd opensmtpq smmsp smmta mailnull
	rpc rpcuser nfsnobody rtkit pulse usbmux saned colord geoclue cups cups-pk-helper sddm landscape pollinate uuidd tcpdump lxd
	libvirt libvirt-qemu qemu kvm radvd saslauth sasl
	squid webalizer haldaemon avahi-autoipd ident rpm vcsa pcap ntpd memcache memcached prometheus grafana influxdb telegraf kibana
	logstash jenkins gitlab gitlab-runner git nagios
	zabbix puppet ansible consul vault etcd kube minio cassandra kafka zookeeper solr hadoop hdfs noaccess nobody4 iusr
	defaultaccount wdagutilityaccount krbtgt sssd nslcd freerad radius
	mosquitto openvpn strongswan clamav amavis opendkim spamd fetchmail mailman asterisk freeswitch haproxy varnish caddy node nodejs
	php-fpm wwwrun apache2 tomcat8 tomcat9 jetty wildfly jboss
	equal equals notequal contains matches exists startswith endswith greaterthan lessthan regex
	the a an this that if is are to in on of for and or not with as at it its same any each every all some
	other anyone administrators public shared server client host agent robot bot monitor monitoring`)

// FindUser finds a name next to a telling key. Behind a key without quotes, further words with capitals belong to it.
func FindUser(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if at+2 < len(b) && b[at+1] == '<' && b[at] == '=' { // user=<NAME> of mail servers
		k = keyed{quoted: true, start: at + 2, end: chars.NameAt(b, at+2)}
		ok = k.end < len(b) && (b[k.end] == '>' || b[k.end] == '@')
	}
	if at+2 < len(b) && b[at+1] == '[' && b[at] == '=' { // user=[NAME]
		k = keyed{quoted: true, start: at + 2, end: chars.NameAt(b, at+2)}
		ok = k.end < len(b) && b[k.end] == ']'
	}
	if n := lengthBefore(b, at+1); n > 0 {
		k, ok = keyed{}.readValue(b, at+1+n)
	}
	if !ok || k.start < free {
		return 0, 0, false
	}
	if c := b[at-1]; c|0x20 == 'y' || !chars.IsWord(c) {
		if key, end, _ := KeySpan(b, at); chars.IsOneOf(b[key:end], "identity") && bytes.IndexByte(b[k.start:k.end], '.') < 0 {
			return 0, 0, false // of a device
		}
	}
	return k.person(b)
}

// lengthBefore gives the length of [8] and the space behind it, as audits of databases have it before a value in quotes, or 0.
func lengthBefore(b []byte, at int) int {
	if at+4 >= len(b) || b[at] != '[' || !chars.IsDigit(b[at+1]) {
		return 0
	}
	end := at + 2
	for chars.IsDigit(b[end]) && end+3 < len(b) {
		end++
	}
	if b[end] != ']' || b[end+1] != ' ' || b[end+2] != '"' && b[end+2] != '\'' {
		return 0
	}
	return end + 2 - at
}

// person gives the name that a value is, if it is one. Mail addresses are left to their own rule.
func (k keyed) person(b []byte) (int, int, bool) {
	if !k.quoted {
		k.end = MoreNames(b, k.start, k.end)
	}
	// DOMAIN\NAME: the name is the same elsewhere.
	if n := bytes.LastIndexByte(b[k.start:k.end], '\\'); n > 0 && chars.NameAt(b, k.start) < k.start+n+1 &&
		chars.NameAt(b, k.start+n+1) == k.end {
		if domain := bytes.TrimRight(b[k.start:k.start+n], "\\"); len(domain) > 0 && chars.NameAt(domain, 0) == len(domain) {
			k.start += n + 1
		}
	}
	if !k.quoted && k.end > k.start && b[k.end-1] == ':' { // what is said of the name
		k.end--
	}
	v := b[k.start:k.end]
	return k.start, k.end, bytes.IndexByte(v, '@') < 0 && IsPerson(v) && (k.quoted || !beginsProse(b, k.start, k.end))
}

// beginsProse says whether a word in small letters is one that everybody uses, and two more in small letters follow: a sentence about
// what stands before.
func beginsProse(b []byte, start, end int) bool {
	if end >= len(b) || b[end] != ' ' || !chars.IsSmall(b[start:end]) || !IsEveryday(b[start:end]) {
		return false
	}
	words := bytes.Fields(b[end:min(len(b), end+chars.MaxKey)])
	return len(words) > 2 && chars.IsSmall(words[0]) && chars.IsSmall(words[1])
}

// BeginsWithAlias says whether text begins with an alias, behind which signs of what stood there are left.
func BeginsWithAlias(text []byte) bool {
	end := 0
	for end < len(text) && (chars.IsWord(text[end]) || text[end] == '-') {
		end++
	}
	return IsAliasWord(text[:end])
}

// Nobody are the names that no person has.
var Nobody = chars.NewWordList(serviceAccounts, CommonWords)

// IsPerson says whether a text can be a name.
func IsPerson(v []byte) bool {
	switch {
	case len(v) < 2 || len(v) > 80 || v[0]|0x20 < 'a' && v[0] < 0x80 || v[0]|0x20 > 'z' && v[0] < 0x80:
		return false
	case !IsValue(v):
		return false
	}
	if chars.IsUpper(v[0]) && isMacro(v) && isEverydayName(bytes.ReplaceAll(v, []byte("_"), []byte(" "))) || len(v) > 2 &&
		v[1] == ':' && v[0] == 'x' || v[len(v)-1] == '=' || isPath(v) || BeginsWithAlias(v) || len(v) > 7 && v[7] == '-' &&
		strings.EqualFold(string(v[:8]), "systemd-") {
		return false
	}
	return !Nobody.Has(v)
}

// isPath says whether a value is a path or a piece of a program rather than a name.
func isPath(v []byte) bool {
	return bytes.IndexByte(v, '/') >= 0 && !isTicketName(v) || bytes.IndexByte(v, '(') > 0
}

// isTicketName says whether a value is a name as tickets have it: BRANDVOLD/ILKA MRS.
func isTicketName(v []byte) bool {
	slashes := 0
	for _, c := range v {
		if c == '/' {
			slashes++
		} else if !chars.IsUpper(c) && c != ' ' && c != '-' {
			return false
		}
	}
	return slashes == 1 && len(v) > 4 && v[0] != '/' && v[len(v)-1] != '/'
}

// MoreNames gives the end of a name that may go on with further words: Ilka Brandvold.
func MoreNames(b []byte, start, end int) int {
	if start >= len(b) || !chars.IsUpper(b[start]) {
		return end
	}
	for n := 0; n < 3 && end+2 < len(b) && b[end] == ' ' && (chars.IsUpper(b[end+1]) || b[end+1] >= 0x80); n++ {
		next := end + 1
		for next < len(b) && (chars.IsWord(b[next]) && !chars.IsDigit(b[next]) || b[next] == '-' || b[next] == '\'' || b[next] >= 0x80) {
			next++
		}
		if next-end < 3 || next < len(b) && bytes.IndexByte([]byte("=:_(/0123456789"), b[next]) >= 0 || !chars.IsLower(b[end+2]) {
			break
		}
		end = next
	}
	return end
}

// Words around a user name, as logs of logins have them.
var (
	NoUserNames = chars.WordSet(`code limits limit information general agent account accounts name names id ids input interface group
	groups mode space data defined manager management guide session sessions profile profiles service services
		request requests directory error table list database db type level role roles settings config store home login password token
	agent-string has is was who that can may must will with
		from and or not the a an in on at to for by of via no this experience count cache info information scope permissions
	permission lookup exists record records does did could cannot failed
		connected disconnected authenticated created deleted locked logged defined-by authentication authorization authorisation
	verification registration creation deletion provisioning credential credentials sync
		synchronization logon logout logoff signin sign-in import export update updates query queries validation enrollment enrolment
	onboarding input-output preference preferences privilege privileges rights rights-assignment activity actions action event events
	time limit quota slice instance bus unit lib local bin`)
)

// FindLogUser finds user names in the idioms of system logs, listings and prompts.
func FindLogUser(b []byte, at, free int) (start, end int, ok bool) {
	switch b[at] {
	case '(':
		start, end, ok = userInParentheses(b, at)
	case ')':
		start, end, ok = userBeforeCron(b, at)
	case '[':
		start, end, ok = userOfRequest(b, at)
	case '=':
		if start, end, ok = userOfSudoers(b, at); ok {
			break
		}
		if start, end, ok = userOfSudo(b, at); !ok {
			start, end, ok = userOfDelivery(b, at)
		}
	case '@':
		start, end, ok = userAtHost(b, at)
	case '\\':
		start, end, ok = userOfDomain(b, at)
	case '/':
		if start, end, ok = userOfTerminal(b, at); !ok {
			start, end, ok = nameOnPass(b, at)
		}
		if bytes.HasSuffix(b[:at], []byte(":user")) { // arn:aws:iam::123456789012:user/NAME
			start, end, ok = at+1, chars.NameAt(b, at+1), true
		}
	case ':':
		if start, end, ok = userOfPasswd(b, at); !ok {
			start, end, ok = userOfProcess(b, at)
		}
		if !ok && at > 1 && (b[at-1] == ')' || b[at-1] == '>') && at+1 < len(b) && b[at+1] == ' ' {
			start, end, ok = userOfMailService(b, at-1)
		}
	case '-':
		start, end, ok = userOfArrow(b, at)
	case '?':
		start, end, ok = userOfJob(b, at)
	case '|', '\t':
		if start, end, ok = userOfRevision(b, at); !ok {
			start, end, ok = userOfRow(b, at)
		}
	case ',': // the next of several mail addresses
		if at > 0 && b[at-1] == '>' {
			start, end, ok = FindMailboxName(b, at, free)
		} else {
			start, end, ok = userOfTuple(b, at)
		}
	}
	return start, end, ok && start >= free && start < end && IsPerson(b[start:end])
}

// goesOn says whether a text goes on behind a name as it does behind words: not with a sign of a program or a path.
func goesOn(b []byte, end int) bool {
	if end == len(b) || chars.IsBlank(b[end]) || b[end] == '@' {
		return true
	}
	if b[end] == '\'' {
		return end+2 < len(b) && b[end+1] == 's' && b[end+2] == ' '
	}
	return bytes.IndexByte([]byte(",.;:)"), b[end]) >= 0 && (end+1 == len(b) || chars.IsBlank(b[end+1]))
}

// databaseName are the words behind NAME@DATABASE in the logs of a database.
var databaseName = map[string]bool{"LOG:": true, "ERROR:": true,
	"FATAL:": true, "STATEMENT:": true, "DETAIL:": true, "WARNING:": true, "HINT:": true}

// beforeAddressed are words before NAME@ADDRESS.
var beforeAddressed = chars.WordSet("from as for by user to login connect connecting connected session")

// isFullIPv4 says whether a text is four numbers with dots between.
func isFullIPv4(v []byte) bool {
	parts := bytes.Split(v, []byte("."))
	for _, p := range parts {
		if len(p) > 3 || !chars.IsAllDigits(p) {
			return false
		}
	}
	return len(parts) == 4
}

// userOfDomain finds the name in DOMAIN\NAME.
func userOfDomain(b []byte, at int) (int, int, bool) {
	first := at
	for first > 0 && (chars.IsUpper(b[first-1]) || chars.IsDigit(b[first-1]) || b[first-1] == '-') && at-first < 16 {
		first--
	}
	if at-first < 2 || first > 0 && (chars.IsNameByte(b[first-1]) || bytes.IndexByte([]byte("\\/:%"), b[first-1]) >= 0) ||
		bytes.HasPrefix(b[first:], []byte("HK")) {
		return 0, 0, false
	}
	start := at + 1
	if start < len(b) && b[start] == '\\' {
		start++
	} else if escapes(b, at) || start+2 < len(b) && b[start] == 'x' && chars.IsHex(b[start+1]) && chars.IsHex(b[start+2]) {
		return 0, 0, false
	}
	end := chars.NameAt(b, start)
	if end-start < 3 || end < len(b) && (b[end] == '\\' || b[end] == '$') || chars.IsUpper(b[start]) && end-start > 1 &&
		chars.IsUpper(b[start+1]) || bytes.IndexByte(b[start:end], '.') > 0 && bytes.ContainsAny(b[end-4:end], ".") {
		return 0, 0, false // a path, or the account of a machine
	}
	return start, end, chars.IsLower(b[start]) || chars.IsUpper(b[start])
}

// escapes says whether a backslash begins an escape within a text of JSON, such as \b: what follows the quote that closes it tells.
func escapes(b []byte, at int) bool {
	if at+1 >= len(b) || bytes.IndexByte([]byte("bfnrtu"), b[at+1]) < 0 {
		return false
	}
	if !isOpenAt(b, at, 0) {
		return false
	}
	end := closing(b, at+2, '"')
	if end == len(b) || b[end] != '"' {
		return false
	}
	rest := bytes.TrimLeft(b[end+1:min(len(b), end+16)], " \t\r\n")
	return len(rest) == 0 || bytes.IndexByte([]byte(",:}]"), rest[0]) >= 0
}
