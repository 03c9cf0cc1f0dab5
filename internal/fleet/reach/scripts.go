package reach

import (
	"strings"

	"jadekettle/internal/host/worker"
)

// The scripts below run in the login shells and the sh of other people's hosts.
// So they use what POSIX has and, since they are quoted for shells that are not
// sh as well, neither single quotes nor exclamation marks nor newlines.

// oneLine joins a script's lines: a newline inside quotes is an error to some
// login shells.
func oneLine(script string) string {
	var out []string
	for line := range strings.Lines(script) {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return strings.Join(out, " ")
}

// Starter is the program on a host that a rule of sudo or doas can allow by its
// name, and nothing else: it starts a worker that root stored, or stores one.
const Starter = "/var/lib/jadekettle/start"

// trust defines refuse, which says what cannot be trusted and ends, and trusted,
// which holds for what is not a link, belongs to root or the worker's user, and can
// be written by nobody else: of root's folders all the way up. What is not there
// is nothing to distrust. One ls looks at all, since each program started costs a
// host a millisecond; a shell starts with a newline at the end of IFS. The size of the last of them is in bytes
// afterwards.
const trust = `
LC_ALL=C; export LC_ALL;
nl=${IFS#??}; [ ${#nl} = 1 ] || { nl=$(printf "\n."); nl=${nl%.}; };
refuse() { echo "jadekettle $nonce refuse $1"; exit 0; };
trusted() {
	up=; p=$1;
	if [ "$uid" = 0 ]; then while [ -n "$p" ]; do p=${p%/*}; up="$up ${p:-/}"; done; fi;
	IFS=$nl;
	for it in $(IFS=" "; ls -ldn $up "$@" 2>/dev/null); do
		IFS=" ";
		set -- $it; mode=$1; owner=$3; bytes=$5; shift 8;
		case $mode in l*|?????w*|????????w*) refuse "${*%% -> *}";; esac;
		case $owner in 0|"$uid") ;; *) refuse "$*";; esac;
	done;
	IFS=" ";
};`

// common finds the two folders that a worker may lie in, the second for hosts where nothing in the first may be run.
// Who owns / and /etc is root: to start id takes 3 ms. Anybody may make a folder in /var/tmp: one of another's is
// passed over, for that of the login, which only the system makes. What comes with a call names files in them, so no
// word of it may lead elsewhere.
const common = `
umask 077; nonce=$1; shift;
if [ -O / ] 2>/dev/null && [ -O /etc ]; then uid=0; else uid=$(id -u); fi;
case $nonce in */*) exit 2;; esac;
for a; do case $a in */*) exit 2;; esac; done;` + trust + `
if [ "$uid" = 0 ]; then
	d=/var/lib/jadekettle/bin; d2=/root/.cache/jadekettle;
else
	d=$HOME/.cache/jadekettle; d2=/var/tmp/jadekettle-$uid;
	case $(ls -ldn "$d2" 2>/dev/null | { read -r m l o rest; echo "$o"; }) in ""|"$uid") ;; *)
		d2=/run/user/$uid; if [ -d "$d2" ]; then d2=$d2/jadekettle; else d2=$d; fi;;
	esac;
fi;`

// start runs the worker, or says "need" and the type of machine. Root's folder is
// no other machine's as well, so there whichever build is in it is the right
// one. A worker's file has its size at the end of its name: one that has another was
// emptied or broke off, and is sent again. Whoever reads "begin" and nothing more knows
// that it does not run. The umask goes back to the usual: what a package's own scripts make must
// be readable. After "need" it stays until the other side has begun to send a
// worker, since some servers end the connection when its last command ends.
const start = `
f=; m=;
find_it() {
	for e in "$d" "$d2"; do for a; do for it in "$e/${a##*=}".*; do
		if [ -z "$f" ] && [ -f "$it" ] && [ -x "$it" ] &&
			{ [ -z "$m" ] || [ "${a%=*}" = "$m" ]; }; then f=$it; at=$e; fi;
	done; done; done;
};
if [ "$uid" = 0 ]; then find_it "$@"; fi;
if [ -z "$f" ]; then m=$(uname -sm); find_it "$@"; fi;
if [ -n "$f" ]; then d=$at; fi;
trusted "$d" ${f:+"$f"};
umask 022;
if [ -n "$f" ] && [ "${f##*.}" = "$bytes" ]; then
	echo "jadekettle $nonce begin"; exec "$f" ` + worker.Argument + ` "$nonce";
fi;
if [ -z "$m" ]; then m=$(uname -sm); fi;
z=; if command -v gzip >/dev/null 2>&1; then z=" gzip"; fi;
echo "jadekettle $nonce need $m$z"; exec cat >/dev/null`

// upload stores the program on its standard input in the first folder in which
// programs can be run, which is tried out. It is on the disk before it has its name,
// since an empty one of that name would be no worker. It says "go" first: before that, sudo
// would take what is sent for a password.
const upload = `
echo "jadekettle $nonce go"; name=$1; size=$2; how=cat; if [ "$3" = gzip ]; then how="gzip -dc"; fi; at=;
for e in "$d" "$d2"; do
	if [ -z "$at" ]; then
		trusted "$e"; t=$e/.new-$nonce;
		if mkdir -p "$e" && printf "#\041/bin/sh\n" >"$t" && chmod 700 "$t" && "$t"; then at=$e; else rm -f "$t"; fi;
	fi;
done;
if [ -z "$at" ]; then
	cat >/dev/null; echo "jadekettle $nonce nowhere $d or $d2";
elif f=$at/$name.$size && $how >"$t" && [ "$(wc -c <"$t")" -eq "$size" ] && { sync "$t" 2>/dev/null || sync; } &&
	{ [ -f "$f" ] || rm -rf "$f"; } && mv -f "$t" "$f"; then
	if [ "$uid" = 0 ] && [ -n "$starter" ] && mkdir -p /var/lib/jadekettle && chmod 711 /var/lib/jadekettle; then
		umask 022; t=/var/lib/jadekettle/.start-$nonce;
		printf "#\041/bin/sh\n%s\n" "$starter" >"$t" && chmod 755 "$t" &&
			{ sync "$t" 2>/dev/null || sync; } && mv -f "$t" ` + Starter + `;
		rm -f "$t";
	fi;
	find "$at" -type f -mtime +30 -exec rm -f {} +;
	echo "jadekettle $nonce stored $at";
else
	rm -f "$t"; cat >/dev/null; echo "jadekettle $nonce unstored $at";
fi`

// script is what one call runs on a host: by itself, or by the starter that lies
// there, under the name that it has in that.
type script struct{ name, text string }

// startScript starts the worker whose hash is given for the host's machine type,
// or says "need" and the machine type. Its arguments are the nonce and then
// MACHINE=HASH for each build at hand. uploadScript stores the program on its
// standard input: its arguments are the nonce, the hash that names it, its size in
// bytes, and how it is packed.
var (
	startScript  = script{"start", oneLine(common + start)}
	uploadScript = script{"store", "starter='" + starter + "'; " + oneLine(common+upload)}
)

// starter is the text of Starter, but for its first line.
var starter = oneLine(`what=$1; shift; starter=;` + common + ` case $what in start) ` + start + ` ;; store) ` + upload +
	` ;; esac`)

// elevated runs a script by sudo or doas: by the starter, where there is one,
// since a rule may allow no more, unless that is empty. Its arguments are the script's name, its text,
// and what the script is given.
func elevated(by string) string {
	return oneLine(`what=$1; text=$2; shift 2; nonce=$1; uid=0; f=` + Starter + `;
if [ -x "$f" ] && [ -s "$f" ]; then ` + trust + ` trusted "$f"; exec ` + by + ` "$f" "$what" "$@"; fi;
exec ` + by + ` sh -c "$text" jadekettle "$@"`)
}

// Understood takes the words of a command line that starts a worker: the nonce,
// and "sudo", "sudo -S" where that may ask for a password, "doas", or nothing. It
// is for those who stand in for a host.
func Understood(words []string) (nonce, by string, ok bool) {
	if len(words) >= 5 && words[2] == startScript.text {
		return words[4], "", true
	}
	if len(words) < 7 || words[5] != startScript.text {
		return "", "", false
	}
	for _, by := range []string{"sudo -S", "sudo", "doas"} {
		if strings.Contains(words[2], " exec "+by+" -") {
			return words[6], by, true
		}
	}
	return "", "", false
}
