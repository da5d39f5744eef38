package collect

import "envask/internal/posix"

// A folder of ours on a system holds ours/ (our marker, and of the command that runs in it: pid, out, err and, once it is over, exit)
// and made/, what the command makes. What works on it are scripts, and a run that is killed cannot call back one that it sent.

// marker is the file by which a folder on a system is known to be ours.
const marker = "made-by-envask"

// startInFolder is the script that makes a folder of ours and starts a command line in it, apart from the connection. Of several
// that are on their way at once, sent by runs that were killed since, one makes the folder. The others leave it as it is: also
// when it is taken and removed while they still wait, else they would run the command again when nobody looks after it any more.
func startInFolder(folder, line string) string {
	f := posix.Word(folder)
	inner := "cd " + f + "/made && sh -c " + posix.Word(line) +
		" > ../ours/out 2> ../ours/err < /dev/null; echo $? > ../ours/exit.new; mv ../ours/exit.new ../ours/exit"
	inner = "cd " + f + "/ours && sh -c " + posix.Word(inner)
	return "umask 077\nif ! mkdir " + f + " 2> /dev/null; then\n" +
		"[ -d " + f + " ] || { mkdir " + f + "; exit 1; }\n" + // says why it cannot be
		"for i in 1 2 3; do [ -f " + f + "/ours/pid ] && exit 0; sleep 1; done\n" + // the script of that run may be in its middle
		"[ -f " + f + "/ours/pid ] && exit 0\n" +
		"[ -d " + f + " ] || { echo 'our folder was removed meanwhile' >&2; exit 1; }\n" +
		"if [ -f " + f + "/ours/" + marker + " ]; then rm -rf " + f + "; else rmdir " + f + "/made " + f + "/ours " +
		f + " 2> /dev/null; fi\n" +
		"mkdir " + f + " || exit 1\nfi\n" +
		"mkdir " + f + "/ours " + f + "/made && echo 'It may be removed.' > " + f + "/ours/" + marker + " || exit 1\n" +
		"S=; command -v setsid >/dev/null && S=setsid\n" +
		"nohup $S sh -c " + posix.Word(inner) + " > /dev/null 2>&1 < /dev/null &\n" +
		"echo $! > " + f + "/ours/pid"
}

// RemoveFolder is the script that removes a folder of ours: only one that has our marker, and what runs in it is ended before.
func RemoveFolder(folder string) string {
	f := posix.Word(folder)
	return "[ -d " + f + " ] || exit 0\n[ -f " + f + "/ours/" + marker + " ] || { echo 'it does not have our marker' >&2; exit 1; }\n" +
		"if [ -f " + f + "/ours/pid ] && [ ! -f " + f + "/ours/exit ]; then p=$(cat " + f +
		"/ours/pid); { kill -KILL -- -$p || kill -KILL $p; } 2>/dev/null; fi\n" +
		"rm -rf " + f
}
