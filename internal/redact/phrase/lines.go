package phrase

// LineRows are whole lines in which something stands though no word of them tells: files of accounts, lists, and the ends of letters.
var LineRows = []Phrase{
	{`[*.*]:* {account}:{secret!} $`,
		yes("[mail.tallow.example]:587 «itostrund»:«Flag-and-Buoy»", "[mail.tallow.example]:587 «itostrund»:«Wn4-Brine!k2»"),
		no("[mail.tallow.example]:587 x")},
	{`*.* {account}:{strong} $`, yes("192.0.2.25 «itostrund»:«Wn4-Brine!k2»", "mail.tallow.example\t«itostrund»:«Pier44Moor»"),
		no("192.0.2.25 x:y")},
	{`{account}:* realm:{random} $`, yes("«itostrund»:gate realm:«9f1c2d3e4b5a69788796a5b4c3d2e1f0»"), no("x:gate realm:y")},
	{`AuthInfo:* U:{account} I:{account} P:{secret!} *?`,
		yes(`AuthInfo:mail.tallow.example "U:«itostrund»" "I:«itostrund»" "P:«Flag-and-Buoy»" "M:PLAIN"`), no("AuthInfo: x")},
	{`AuthInfo:* U:{account} P:{secret!} *?`,
		yes(`AuthInfo:mail.tallow.example "U:«itostrund»" "P:«Flag-and-Buoy»"`), no("AuthInfo: x y")},
	{`*.*:{account}:{fierce} $`, yes("mail.tallow.example:«itostrund»:«Wn4-Brine!k2»"), no("a.b:c:d")},
	{`{account}:{fierce} $`, yes("«itostrund»:«Wn4-Brine!k2»"), no("image:nginx")},
	{`{account}:{fierce}@* $`, yes("«svcuser»:«Wn4-Brine!k2»@cache"), no("x:y@z")},
	{`{account}/{fierce}@* $`, yes("«svcuser»/«Wn4-Brine!k2»@FARE"), no("a/b@c")},
	{`*/{account}/{fierce}@* $`, yes("x/«svcuser»/«Wn4-Brine!k2»@FARE"), no("a/b/c@d")},
	{`{account} md5{random} $`, yes(`"«fareuser»" "md5«a3f1c2b4d5e6978012345678deadbeef»"`), no(`"a" "b"`)},
	{`{account} SCRAM-SHA-256$* $`, yes(`"«fareuser»" "SCRAM-SHA-256$4096:c2Fs"`), no(`"a" "SCRAM-SHA-1"`)},
	{`{quser} {fierce} $`, yes(`"«fareuser»" "«Wn4-Brine!k2»"`), no(`"a" "b"`)},
	{`{account} \* {fierce} \* $`, yes(`"«itostrund»" * "«Wn4-Brine!k2»" *`, "«itostrund» * «Wn4-Brine!k2» *"), no("a * b *")},
	{`http*://* {account} {fierce} $`, yes("https://dav.example/ «itostrund» «Wn4-Brine!k2»"), no("https://dav.example/ is here")},
	{`<auth-user-pass> NL {account} NL {secret!} $`,
		yes("<auth-user-pass>\n«itostrund»\n«Wn4-Brine!k2»\n</auth-user-pass>"),
		no("<auth-user-pass>")},
	{`auth-user-pass NL {account} NL {fierce} $`, yes("auth-user-pass\n«itostrund»\n«Wn4-Brine!k2»"), no("auth-user-pass\nx\ny")},
	{`* [* @ AUTH|auth {secret!} $`,
		yes(`1741932720.123456 [0 192.0.2.9:4417] "AUTH" "«Wn4-Brine!k2»"`, `1741932720.1 [0 192.0.2.9:4417] "auth" "«anemone-71»"`),
		no(`1 [0 192.0.2.9:4417] "GET" "x"`)},
	{`* [* @ AUTH|auth {account} {secret!} $`,
		yes(`1741932720.123456 [0 192.0.2.9:4417] "AUTH" "«gatecache»" "«Wn4-Brine!k2»"`),
		no(`1 [0 192.0.2.9:4417] "GET" "x" "y"`)},
	{`*\Password<|||>*<|||>{secret!} $`,
		yes(`Servers\ledger\Password<|||>1<|||>«755A737D0A4C4F»`), no(`Servers\ledger\Port<|||>1<|||>33`)},
	{`*\User<|||>*<|||>{account} $`, yes(`Servers\ledger\User<|||>1<|||>«itostrund»`), no(`Servers\ledger\Port<|||>1<|||>33`)},
	{`# MD5|SHA1|SHA256|SHA384|SHA512|AES128|AES256 HEX:{secret!} $`,
		yes("1 MD5 HEX:«B028F91EA5C38D06C2E140B26C7F41EC»"), no("1 MD5 of it")},
	{`# M|MD5|SHA1|SHA256|SHA384|SHA512|AES128CMAC {secret}`,
		yes("10 M «Wn4-Brine!k2»  # MD5 key"), no("10 K x")},
	{`:om*:*,*,{account},{secret!} $`,
		yes(":ommysql:192.0.2.9,syslog,«logger_rw»,«Wn4-Brine!k2»"), no(":omusrmsg:x")},
	{`{user!}@cqlsh> *`, yes("«ringop»@cqlsh> CREATE ROLE x"), no("cqlsh> x")},
	{`@ * {account}@ linux|windows|macOS|iOS|android *`,
		yes("192.0.2.7   gate-2   «itostrund»@   linux   active"),
		no("192.0.2.7 x y linux z")},
	{`*:*.*.*.*:*:{account}:{strong} $`, yes("edge-1:192.0.2.1:junos:«netcfg»:«Brine-4-go»"), no("edge-1:192.0.2.1:junos:x:y")},
	{`{account}: OBF:{secret!},*`, yes("«itostrund»: OBF:«1xmi1w8f1w2j1v2p1k71»,admin"), no("x: OBF")},
	{`{account}: OBF:{secret!} $`, yes("«itostrund»: OBF:«1xmi1w8f1w2j1v2p1k71»"), no("x: OBF")},
	{`{account}: CRYPT:{secret!},*`, yes("«itostrund»: CRYPT:«adpexzg3FUZAk»,admin"), no("x: CRYPT")},
	{`{account}: CRYPT:{secret!} $`, yes("«itostrund»: CRYPT:«adpexzg3FUZAk»"), no("x: CRYPT")},
	{`{account}: MD5:{random},*`, yes("«itostrund»: MD5:«5f4dcc3b5aa765d61d8327deb882cf99»,admin"), no("x: MD5")},
	{`{account}: MD5:{random} $`, yes("«itostrund»: MD5:«5f4dcc3b5aa765d61d8327deb882cf99»"), no("x: MD5")},
	{`{account}:MD5:{random},*`, yes("«itostrund»:MD5:«5f4dcc3b5aa765d61d8327deb882cf99»,user"), no("x:MD5")},
	{`{account}:{strong},user $`, yes("«itostrund»:«Wn4-Brine!k2»,user"), no("x:y,user")},
	{`{account}:{strong},admin $`, yes("«itostrund»:«Wn4-Brine!k2»,admin"), no("x:y,admin")},
	{`{account}:{strong},user,admin $`, yes("«itostrund»:«Wn4-Brine!k2»,user,admin"), no("x:y,user,admin")},
	{`{account} = ENC({random})`, yes("«gatebus» = ENC(«1024:59F2E1A4B7C3D6908172:9A0B1C2D3E4F»)"), no("x = ENC(y)")},
	{`\*:\*:\*:{account}:{strong} $`, yes("*:*:*:«postgres_admin»:«Wn4-Brine!k2»"), no("*:*:*:x")},
	{`{account} * {unusual} \* $`, yes(`"«pier-modem»" * "«Ropeladder4»" *`, "«itostrund»\tl2tpd\t«quaysidekey»\t*"), no("a b the *")},
	// Travel documents, cards of people, messages of hospitals.
	{`NAD+*+++{person}:{person}'`, yes("NAD+FL+++«TOSTRUND»:«ILVAR»'"), no("NAD+FL+++")},
	{`N:{person};{person} $`, yes("N:«Sorley»;«Mirren»;;;"), no("N:1")},
	{`PID|*|*|*|*|{person}^{person}^*|*`, yes("PID|1||4471902^^^PIER||«TOSTRUND»^«ILVAR»^^^Ms||19710430"), no("PID|1|")},
	{`PID|*|*|*|*|{person}^{person}|*`, yes("PID|1||4471902^^^PIER||«TOSTRUND»^«ILVAR»||19710430"), no("PID|1")},
	{`user:{account}@*:*:*:{person}:{person}:*`, yes("user:«ilvar»@pve:1:0:«Ilvar»:«Tostrund»:x@y.example:::"), no("user:x")},
	{`$USER*$={secret} $`, yes("$USER3$=«Wn4-Brine!k2»"), no("$USER1$=/usr/lib/monitoring")},
	{`[*:*] {user}: *`, yes("[02:44] «msorley»: can you try again?"), no("[02:44] error: disk full")},
	{`[*:*] <{account}> *`, yes("[02:44] <«msorley»> can you try again?"), no("[02:44] <- done")},
	{`{account} # *.* *.* # # * S|R|D|I|T|Z|Ss|Sl|S+|Ssl|R+|Ss+|Sl+|S<|I<|SN|SLl * *:* *`,
		yes("«gatesvc»   900  1.2  2.1 812000 90112 ?       Sl   Mar12  10:11 java -jar gate.jar"),
		no("USER         PID %CPU %MEM    VSZ   RSS TTY      STAT START   TIME COMMAND")},
	{`*? whoami NL *\{account} $`, yes("C:\\> whoami\npier\\«pvasquez»"), no("whoami\nroot")},
	{`*? {account} ->|=>|→ {fierce} $`, yes("gate1 «gateroot» -> «Wn4-Brine!k2»"), no("lane 3 -> lane 4")},
	{`* ({account}) ->|=>|→ {fierce} $`, yes("ledger («fare_rw») -> «Wn4-Brine!k2»"), no("lane (x) -> lane 4")},
	{`* root ->|=>|→ {fierce} $`, yes("gate1 root -> «Wn4-Brine!k2»"), no("gate1 root -> /home")},
	{`... @ {account} tty0|tty1|tty2|tty3|vty0|vty1|pts/0|pts/1 @ *`,
		yes("Mar 14 06:12:00 2026\t192.0.2.2\t«itostrund»\ttty1\t192.0.2.33\tstop"), no("192.0.2.2 x tty1 y")},
	{`*? *? hilsen|hälsning|hälsningar|terveisin|groet|Grüßen|Gruß NL {name} $`, yes("Med vennlig hilsen\n«Ilvar Tostrund»"),
		no("hilsen\nalle")},
	{`{account} / {fierce} $`, yes("«itostrund» / «Wn4-Brine!k2»"), no("a / b")},
	{`*? *egards NL {name} $`, yes("Kind regards,\n«Ilvar Tostrund»"), no("Kind regards\nthe team")},
	{`*? *egards NL {name} \| *`, yes("Kind regards,\n«Ilvar Tostrund» | Gate Systems"), no("Kind regards\nthe team | x")},
	{`Best|Thanks|Cheers|Yours|Greetings|Cordialement|Saludos|Atentamente|Saluti|Mvh *? NL {name} $`, yes("Thanks,\n«Ilvar Tostrund»"),
		no("Thanks,\nall of you")},
	{`@{name} *`, yes("@«Ilvar Tostrund» can you restart it?"), no("@media x")},
	{`* ({name} 20*`, yes("^a1b2c3d («Ilvar Tostrund» 2026-03-14 06:12:00 +0000 12) lane = 7"), no("^a1b2c3d (x 2026-03-14")},
	{`{user!} --|+-|-+|++ # # #`, yes("«itostrund» --   4417  0  0   12  0  0"), no("all -- 12")},
	{`# {user!} {user!} @ (ipv4:*`,
		yes("211     «itostrund»     «users»        203.0.113.77 (ipv4:203.0.113.77:4417)"),
		no("211 x y 203.0.113.77")},
	{`# \| * \| {user!} \| * \| @ \| *`, yes(" 211 | fare | «itostrund» | psql | 203.0.113.77 | active"), no("211 | fare | x | y")},
	{`*8=FIX*|553={account}|554={secret!}|*`, yes("8=FIX.4.4|35=A|553=«faredesk»|554=«Wn4-Brine!k2»|10=1|"), no("8=FIX.4.4|35=0|10=1|")},
	{`'digest,'*:{secret!} $`, yes("'digest,'gaterw:«Wn4-Brine!k2»"), no("'digest,' is one")},
	{`{account} = -pbkdf2-{secret!} $`, yes("«itostrund» = -pbkdf2-«a6d3c4b5,7b8c9d0e,10»"), no("x = -y")},
	{`# # \* \* * {user!} /*`, yes("15 6 * * * «itostrund» /usr/local/bin/export"), no("15 6 * * * /usr/bin/export")},
	{`# => {code},* *,*@*`, yes("2210 => «4471»,Mirren Sorley,msorley@pier.example"), no("2210 => 4471,x")},
	{`* worker[{account}]*`, yes("ocserv[811]: worker[«msorley»]: 192.0.2.7 suggesting DPD"), no("worker[7]: x")},
	{`* main[{account}]*`, yes("ocserv[811]: main[«msorley»]:192.0.2.7:41022 user disconnected"), no("x main[]: x")},
	{`*> Client: {user!} * *.*`, yes("#0>     Client: «msorley» @ PIER.EXAMPLE"), no("#0> client: x")},
	{`subject,{user!},{user!},*,{user!},*`, yes("subject,«itostrund»,«itostrund»,staff,«itostrund»,staff,2711,301"), no("subject,x")},
	{`... su: +|- * {user!}-*`, yes("Mar 14 06:12:09 hp1 su: + tty?? «itostrund»-root"), no("su: + tty")},
	{`[*] * [SSH * * ({account})] *`, yes("[2031-03-14T06:12:01.1Z] 5f3a [SSH git-upload-pack /x.git («itostrund»)] INFO x"),
		no("[x] y [SSH z")},
	{`@ \| https|http|ssh \| * \| {user!} \| *`, yes("192.0.2.61 | https | o1Ax372 | «itostrund» | 2031-03-14"),
		no("192.0.2.61 | https | x")},
	{`... [*Filter] {account} GET|POST|PUT|DELETE|HEAD http*`,
		yes("06:12:01 INFO [exec-7] [AccessLogFilter] «itostrund» GET https://ci.example/x"), no("[AccessLogFilter] GET https://x")},
	{`[* *:*] {user}: *`, yes("[14/03/2031 06:12] «msorley»: restarted lane 3"), no("[14/03/2031 06:12] error: disk full")},
	{`*@*.* {user} $`, yes("ilvar.tostrund@pier.example   «itostrund»"), no("ilvar.tostrund@pier.example")},
	{`... smbd_audit: {user!}|*`, yes("Mar 14 06:12:03 fs1 smbd_audit: «itostrund»|tp-ws-12|fares|open|ok|r|close.csv"),
		no("smbd_audit: x")},
	{`... /o=*/cn=Recipients/cn={account} *`, yes("TOSTRUND /o=Pier/ou=Ops/cn=Recipients/cn=«itostrund» Cached"), no("x cn=Recipients")},
	{`... auth: passwd-file({account},*`,
		yes("Mar 14 06:12:23 mail dovecot: auth: passwd-file(«tquill»,192.0.2.94): Password mismatch"),
		no("auth: x")},
	{`user_{account}="{strong}"*`, yes(`  user_«gate_events»="«Sea+Bass4»";`), no("user_x=1")},
	{`* * <l2tp-{account}`, yes("06:12:41 l2tp,ppp,info <l2tp-«msorley»>: authenticated"), no("x <l2tp->")},
	{`* * <pppoe-{account}`, yes("06:12:41 pppoe,ppp,info <pppoe-«msorley»>: authenticated"), no("x <pppoe->")},
	{`* * <sstp-{account}`, yes("06:12:41 sstp,ppp,info <sstp-«msorley»>: connected"), no("x <sstp->")},
	{`... [~{account}`, yes("[~«tquill»] please look at it"), no("[~] x")},
	{`{account}: NL When Type *`, yes("«kvale»:\nWhen                Type  Source"), no("kvale:\nWhen")},
	{`{user!} S-1-5-21-*`, yes("pier\\«msorley»  S-1-5-21-1004336348-1177238915"), no("x S-1-5-18")},
	{`{user!} ssh:notty @ *`, yes("«kvale»    ssh:notty    203.0.113.126    Sat Mar 14 06:12"), no("x ssh:notty")},
	{`WHO: {user!} $`, yes("WHO: «kvale»"), no("WHO: a b")},
	{`{user!} # [*/*/*:*:*:* +* total *`, yes("«msorley» 411 [14/Mar/2026:06:12:16 +0000] total 4"), no("x 411 [14/Mar/2026] total")},
	{`password NL V # NL {secret!} $`, yes("password\nV 10\n«Wn4-Brine!k2»"), no("password\nV x")},
	{`username NL V # NL {account} $`, yes("username\nV 9\n«itostrund»"), no("username\nV x")},
	{`# {user!} true|false true|false true|false ADMINISTRATOR|OPERATOR|USER|CALLBACK|NO *?`,
		yes("2   «pieripmi»         true    true       true       ADMINISTRATOR"),
		no("2 x true false")},
	{`auth|logon {user} {strong} $`, yes("auth «itostrund» «Wn4-Brine!k2»"), no("auth to it")},
	{`*? username NL *? {quser} $`, yes("1) \"username\"\n2) \"«itostrund»\""), no("1) \"username\"\n2) x")},
	{`username {quser}`, yes(`"username" "«itostrund»" "client-info" "x"`), no(`"username" is`)},
}

// Lines finds what stands in lines of which no word tells: they are tried one by one, and only in short texts.
type Lines struct {
	templates []template
	judge     Judge
}

// NewLines compiles phrases that are whole lines.
func NewLines(phrases []Phrase, judge Judge) (*Lines, error) {
	l := &Lines{judge: judge}
	for _, p := range phrases {
		c, err := p.compile()
		if err != nil {
			return nil, err
		}
		l.templates = append(l.templates, c)
	}
	return l, nil
}

// At gives what stands in the slots of the first phrase that fits the line from a place on.
func (l *Lines) At(b []byte, start int, each func(Found)) {
	m := matcher{b: b, judge: l.judge, from: start, to: min(len(b), start+maxLine)}
	for i := range l.templates {
		given := false
		if m.found = m.found[:0]; m.forward(l.templates[i].nodes, start) && m.give(func(f Found) { given = true; each(f) }) && given {
			return
		}
	}
}
