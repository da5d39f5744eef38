package find

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
)

// serviceAccounts stay: they are the same everywhere and tell the vendor who did it.
var serviceAccounts = chars.WordSet(`
	root daemon nobody admin administrator system www-data nginx postgres mysql sshd svc service guest anonymous bin mail syslog
	systemd unknown local localhost user default none messagebus gdm lightdm ntp chrony backup operator lp games man news uucp proxy
	list irc gnats _apt sync halt shutdown tomcat apache httpd docker containerd redis mongodb rabbitmq elasticsearch oracle sa dbo
	elastic apm_system
	networkservice localservice authenticated everyone users wheel sudo adm tty disk audio video staff nt authority system32 cron
	crond kernel systemd-network systemd-resolve systemd-timesync dnsmasq avahi polkitd rpc statd test demo null nologin unset new
	admins operators author des cleartext
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

// CommonWords are too common to be removed everywhere, even when one was found next to a key.
var CommonWords = chars.WordSet(`password passwd secret token changeme default example enabled disabled required optional unknown
	invalid expired missing success failure failed passed accepted rejected granted denied error warning timeout
	bearer basic digest negotiate cookie session string number boolean integer object access refresh request response
	client server service system gateway terminal boarding ticket device status result active inactive pending
	internal external public private primary secondary production staging testing development february september
	october november december monday tuesday wednesday thursday saturday sunday connected disconnected
	hidden masked redacted omitted filtered removed
	linux darwin freebsd sid
	name user login admin account from with this that have been true false null none start stop info debug`)

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

// isMacro says whether a word is written as the names of macros are: REMOTE_PRIVATEKEY.
func isMacro(v []byte) bool {
	for _, c := range v {
		if !chars.IsUpper(c) && !chars.IsDigit(c) && c != '_' {
			return false
		}
	}
	return bytes.IndexByte(v, '_') > 0
}
