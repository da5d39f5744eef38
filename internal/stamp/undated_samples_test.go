package stamp

// undatedLines are lines that have no time of their own.
const undatedLines = `
agent 4.2.9 started
version 10.2.14.1
agent-2026.3.14 installed
Release 2026.03.14-1 of the gate agent
libgate.so.20260314
libgate-2026-03-14.jar loaded
firmware 14.03.26 rev B
192.0.2.11 is the gate
192.0.2.11:8443
2001:db8:71::4d up
2001:db8:6:12:0:0:0:1 up
02:00:5e:10:00:01 gate-1
06:12:00:11:22:33 gate-1
0612.0011.2233 dynamic
part 20260314061200
SHA256 20260314061200
serial 1773468720
order 1773468720123 packed
20260314061200
1773468720
1773468720123
1773468720 passes were counted
1773468720 bytes copied
555-010-1234
+44 1632 960123
978-3-16-148410-0
4006381333931
OG410772
OT00030425
00000000  32 30 32 36 2d 30 33 2d  31 34 20 30 36 3a 31 32  |2026-03-14 06:12|
00000010: 3230 3236 2d30 332d 3134 2030 363a 3132  2026-03-14 06:12
0x0040: 3230 3236 2d30 332d 3134 2030 363a 3132 2026-03-14 06:12:00
2026-03-14 is a day
14 March 2026 was a Saturday
March 14
the ferry of 06:12 was late
at 06:12:00 on the same day
The ferry leaves on 14 March 2026 at 06:12:00 from pier three.
The backup of the gates ran until 2026-03-14 06:12:00 and was then stopped.
We met at the pier on Sat Mar 14 06:12:00 2026 to look at the gate.
Please send everything since 2026-03-14 06:12:00 to the desk.
the table of 2026-03-14T06:05:00Z cannot be read
Next run: Sat Mar 14 06:12:00 2026
Next maintenance is planned for 2026-03-20 04:00:00
expires = 2026-03-14T06:12:00Z
expires: 2026-03-14T06:12:00Z
not_after: 2026-03-14 06:12:00
            Not Before: Mar 14 06:12:00 2026 GMT
            Not After : Mar 14 06:12:00 2027 GMT
Last-Modified: Sat, 14 Mar 2026 06:12:00 GMT
Expires: Sat, 14 Mar 2026 06:12:00 GMT
Modify: 2026-03-14 06:12:00.123456789 +0000
Change: 2026-03-14 06:12:00.123456789 +0000
Access: 2026-03-14 06:12:00.123456789 +0000
 Birth: 2026-03-14 06:12:00.123456789 +0000
valid_until="2026-03-14 06:12:00"
maintenance: 2026-03-14 06:12:00
window_start = "2026-03-14 06:12:00"
backup_at = 02:30:00
backup: 02:30:00
time: "02:30:00"
cron = 12 6 14 3 *
12 6 14 3 * /usr/local/bin/backup
timeout = 06:12:00
duration 06:12:00
elapsed 00:06:12
00:06:12 elapsed
01:23:45 remaining
real	0m6.120s
ETA 00:06:12
00:00:12.345 --> 00:00:15.000
uptime is 12 days, 6:12:00
{"name":"gate","valid_until":"2026-03-14T06:12:00Z"}
{"msg":"scheduled for 2026-03-14 06:12:00"}
{"expires":"2026-03-14T06:12:00Z","level":"info"}
{"duration":"06:12:00","level":"info"}
{"serial":1773468720123}
{"time":"soon","level":"info"}
{"request_time":0.005,"status":200}
{"version":"2026.03.14","msg":"up"}
  "expires": "2026-03-14T06:12:00Z",
<expires>2026-03-14T06:12:00Z</expires>
<cert notAfter="2026-03-14T06:12:00Z"/>
<p>The gate failed at 2026-03-14 06:12:00.</p>
level=info expires=2026-03-14T06:12:00Z msg=up
level=info msg="restart planned for 2026-03-20 04:00:00"
	at boarding.fare.Table.parse(Table.java:211)
	at boarding.fare.Loader.swap(Loader.java:88)
Caused by: java.io.IOException: no table
	... 12 more
Traceback (most recent call last):
  File "/srv/gate/agent.py", line 20260314, in run
goroutine 7 [running]:
main.main()
-rw-r--r-- 1 root root 4096 Mar 14 06:12 gate.log
-rw-r--r-- 1 root root 4096 2026-03-14 06:12 gate.log
drwxr-xr-x 2 root root 4096 14. Mär 06:12 boarding
/var/backup/2026-03-14 06:12:00/gate.tar
/srv/fare/tables/2026-03-14T0605.json
gate-2026-03-14T06:12:00.log
file_20260314_061200.png
v2026-03-14T06:12:00
x2026-03-14T06:12:00Z
part 2026-03-14X06:12:00
2026-13-14T06:12:00Z
2026-02-30T06:12:00Z
2026-03-14T26:12:00Z
2026-03-14T06:72:00Z
0000-01-01T00:00:00Z
Mar 44 06:12:00 x
Foo 14 06:12:00 x
Mar 14 06:12
14/Mar/2026
31/02/2026 06:12:00
3/14/2026
13:61:00 x
25:00:00 x
1/2/3
10/20/30 split
50/50
4:3
16:9
1:1000000
12:30 lunch
3.14.15
1.2.3.4.5
#define BUILD 20260314
rev 3f2a9c1 of 2026-03-14
commit 20260314061200aabbccddeeff0011223344556677
etag "69b4fb30-1f4"
550e8400-e29b-41d4-a716-446655440000
d41d8cd98f00b204e9800998ecf8427e
0123456789abcdef0123456789abcdef
lease 86400 seconds
port 1773 to 4687
1773.468720 mm
12345.678 ms
took 1.773468720s
temperature 14.03 26.03
GPS 38.7223 -9.1393
38°43'20.3"N 9°08'21.5"W
EUR 2,026.03
2026
2026-03
202603
Q1 2026
FY2026/27
week 11
ISO 8601:2004
RFC 3339
RFC 5424 section 6
chapter 14.3.26
page 6:12
John 3:16
Linux version 6.1.0-18 (build@pier) (gcc 12.2.0) #1 SMP Debian 6.1.76-1 (2026-02-01)
Copyright 2026-03-14 Merrowick Ferries
set ntp 192.0.2.1 version 4
interface 1/0/14
snmp 1.3.6.1.4.1.2026.3.14
A 14 B 06:12
pass OT00030425 accepted zone=2 lane=1 in 87 ms
cycle 20260 open=398ms close=441ms current=1.7A
GET /tables/2026-03-14T0605 -> 200
queue=0 rtt=14ms
max_age=31536000
retry after 06 min 12 s
from 06:12:00 to 06:13:00
next check 06:12:00
licence valid until 14.03.2026 06:12:00
Build 2026-03-14 06:12:00
compiled Mar 14 2026 06:12:00
[12345.678] 
[ 12.345s][info][gc] Using G1
<34> no time
----------------------------------------
--- 2026-03-14 ---
# 14.03.2026
id,name,serial
gate-1,20260314,OG410771
The shift began at 06:12 and ended at 14:30.
Meeting minutes of 14.03.2026, 06:12 to 07:30
Please call +49 2026 031406 between 06:12:00 and 07:00:00
Build #20260314.1 passed
image: registry.example/gate:2026-03-14T06-12-00
tag v2026.03.14-061200
release_date: 2026-03-14
created: 2026-03-14
updated_at: 2026-03-14T06:12:00Z
"expiresAt": "2026-03-14T06:12:00Z",
lastSeen=2026-03-14T06:12:00Z
next_run=1773468720
expires=1773468720
Set-Cookie: id=7; Expires=Sat, 14 Mar 2026 06:12:00 GMT; Path=/
If-Modified-Since: Sat, 14 Mar 2026 06:12:00 GMT
X-RateLimit-Reset: 1773468720
id 1773468720123456789 assigned
account 1234567890 opened
invoice 1700000000 paid
IMEI 490154203237518
IBAN DE89370400440532013000
ISBN 9783161484100
1700000000 widgets
gate 1 lane 2 zone 3
0x1773468720 at offset 12
md5 20260314061200aabbccddeeff0011
ffff8800 1773468720 0000000000000000
de ad be ef 20 26 03 14
192.168.20.26
10.2.14.1:61200
fe80::6:12:0
2001:db8::2026:314:612
00-11-22-33-44-55
00:1A:2B:3C:4D:5E
aa:bb:cc:12:34:56 gate
12:34:56:78:9a:bc gate
Part No. 14-03-2026-06
part 2026/03/14 rev 6:12
ratio 06:12
score 3:2 after 90:00
lat 06:12:00 N
length 01:12:00
Total time: 00:06:12
Elapsed: 00:00:06.120
user 0m06.12s
Duration: 00:06:12.00, start: 0.000000, bitrate: 128 kb/s
TTL 3600
Uptime: 12 days, 06:12:00
cron: 0 6 14 3 *
0 6 14 3 * root /usr/bin/gate
@daily /usr/bin/gate
schedule: "06:12:00"
opening_hours = 06:12:00-22:00:00
start_time: 06:12:00
sunrise 06:12:00
at 2026-03-14 06:12:00 the gate was still open, said the operator
since 2026-03-14 06:12:00
until 2026-03-14T06:12:00Z
certificate valid from 2026-03-14 06:12:00 to 2027-03-14 06:12:00
password expires 2026-03-14 06:12:00
[section 2026]
# 1.2.3 (2026-03-14)
## [4.2.9] - 2026-03-14
* Sat Mar 14 2026 Ines Tavares <ines@merrowick.example> - 4.2.9-1
commit 3f2a (2026-03-14)
Copyright (c) 2026 Ostrevane
(C) 2026-03-14
const version = "2026-03-14T06:12:00Z"
if (t > "2026-03-14T06:12:00Z") {
  SELECT * FROM pass WHERE at > '2026-03-14 06:12:00'
INSERT INTO pass VALUES (7, '2026-03-14 06:12:00', 'OT00030425');
WHERE ts BETWEEN '2026-03-14 06:12:00' AND '2026-03-14 07:12:00'
GET /api/pass?from=2026-03-14T06:12:00Z&to=2026-03-14T07:12:00Z
curl -H "If-None-Match: 2026-03-14T06:12:00Z" https://fare-1.tallow.example
tar: gate-2026-03-14.tar: Cannot open
Subject: outage of 14 March 2026 06:12:00
> On Sat, 14 Mar 2026 06:12:00 +0000, Ines Tavares wrote:
Serial Number: 14:03:20:26:06:12:00:01
        06:12:00:01:02:03:04:05:06:07:08:09:0a:0b:0c
Fingerprint: 06:12:00:AA:BB
3.14159265358979
6.02e23
1,773,468,720
-1773468720
12/25
2026-W11
2026-073
P1DT6H12M
PT6M12S
R5/2026-03-14T06:12:00Z/PT1H
Last login: Sat Mar 14 06:12:00 2026 from 192.0.2.11
detail: last seen 2026-03-14 06:10:00
Caused by: gate.TimeoutException: deadline 2026-03-14 06:12:00 exceeded
`
