package phrase

// People are the phrases of logs, lists and letters in which the name of somebody stands.
var People = []Phrase{
	{`for user {user!}(uid=*)`, yes("session opened for user «itostrund»(uid=1004) by (uid=0)"), no("made for user x")},
	{`failed|accepted password|publickey|none|keyboard-interactive/pam|gssapi-with-mic for! invalid? user? {user!} from @`, yes("Accepted password for «itostrund» from 203.0.113.77 port 4417 ssh2", "Failed password for invalid user «itostrund» from 203.0.113.77"), no("Failed password for it")},
	{`session # of user {user!}`, yes("New session 12 of user «itostrund»."), no("session 12 of it")},
	{`started|triggered|cancelled|approved|stopped by user {name}`, yes("Started by user «Ilvar Tostrund»"), no("Started by user request")},
	{`keyring of {user}`, yes("unlocked login keyring of «itostrund»"), no("the keyring of all")},
	{`quotas for user {user!} (uid`, yes("Disk quotas for user «itostrund» (uid 1004):"), no("quotas for user data")},
	{`User <{user!}>`, yes("User <«itostrund»> IP <192.0.2.7> connected"), no("User <unknown")},
	{`job # by {user!} on *`, yes("job 7 by «itostrund» on lp"), no("job 7 by itself")},
	{`[{user!}] OK|FAIL UPLOAD:|DOWNLOAD:|LOGIN:|MKDIR:|DELETE:|RENAME: Client`, yes(`[«itostrund»] OK UPLOAD: Client "203.0.113.77", "/in/x.gz", 4417 bytes`), no("[211] OK here")},
	{`^ {user!} opened|closed file *`, yes("«itostrund» opened file x.txt read=Yes write=No"), no("it opened file x")},
	{`^ *-* {user!} # Mon|Tue|Wed|Thu|Fri|Sat|Sun`, yes("gate-12 «itostrund» 4417 Sat 14 Mar 2026"), no("gate-12 4417 Sat 14 Mar")},
	{`ESTABLISHED|LISTEN|TIME_WAIT|CLOSE_WAIT {user!} #`, yes("tcp   0  0 192.0.2.1:22   203.0.113.77:4417   ESTABLISHED «itostrund» 12345"), no("ESTABLISHED on 12")},
	{`bus! name :* {user!}`, yes("(system bus name :1.77, «itostrund»)"), no("bus name :1.77")},
	{`\| # \| {user!} \| @ \| * \| Query|Sleep|Connect|Daemon|Execute`, yes("| 12 | «itostrund» | 203.0.113.77:4417 | fare | Query | 0 | init |"), no("| 12 | x | Query | 0 |")},
	{`^ * {user!} Windows # # *:*`, yes(`\\203.0.113.77         «itostrund»            Windows 10        1 00:12:00`), no("the same Windows 10")},
	{`TCP_* # GET|POST|PUT|HEAD|CONNECT * {user!} HIER_*`, yes("203.0.113.77 TCP_MISS/200 4417 GET http://x.example/ «itostrund» HIER_DIRECT/192.0.2.1 text/html"), no("TCP_MISS/200 4417 GET http://x.example/ - HIER_DIRECT/192.0.2.1 text/html")},
	{`principal {user}`, yes("Realm lookup for principal «itostrund» found 1 account"), no("the principal reason")},
	{`Hello|Hi|Dear|Hallo|Lieber|Liebe {name}`, yes("Hello «Ilvar Tostrund», your pass is ready"), no("Hello world")},
	{`console by {user!} on`, yes("%SYS-5-CONFIG_I: Configured from console by «itostrund» on vty0 (203.0.113.77)"), no("from console by hand")},
	{`Login OK: [{user!}]`, yes("Login OK: [«itostrund»] (from client pier port 0)"), no("Login OK: all")},
	{`(to *) {user!} on`, yes("(to root) «itostrund» on pts/1"), no("(to root) on pts/1")},
}
