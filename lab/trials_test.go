//go:build lab

package lab

// at is where most trials have their things.
const at = "/srv/at/"

// harmonicsSum is that of what TestEveryAttributeOnARealHost serves.
const harmonicsSum = "6251e5743b6fd6a7d606130bdf7c15077ce85ebd3a0fdee284d15a46df199e38"

func init() {
	trials = []trial{
		// software
		{of: "package", declare: "[package.reed-01]\n", look: "dpkg-query -W -f '${Status}' reed-01 2>/dev/null", says: "install ok installed",
			breaks: [2]string{"apt-get remove -qy reed-01 >/dev/null", "apt-get purge -qy reed-01 >/dev/null"}},
		{of: "package.version", declare: "[package.buoy-tools]\nversion = \"1.0-*\"\n", look: "dpkg-query -W -f '${Version}' buoy-tools 2>/dev/null",
			says: "1.0-1", breaks: [2]string{"apt-get install -qy buoy-tools=1.1-1 >/dev/null", "apt-get remove -qy buoy-tools >/dev/null"}},
		{of: "package.hold", declare: "[package.reed-02]\nhold = true\n", look: "apt-mark showhold", says: "reed-02",
			breaks: [2]string{"apt-mark unhold reed-02 >/dev/null", "apt-get remove -qy --allow-change-held-packages reed-02 >/dev/null"}},
		{of: "package.purge", before: "apt-get install -qy reed-03 >/dev/null", declare: "[package.reed-03]\nabsent = true\npurge = true\n",
			look: "dpkg-query -W -f '${Status}' reed-03 2>/dev/null; echo .", says: ".",
			breaks: [2]string{"apt-get install -qy reed-03 >/dev/null", "apt-get install -qy reed-03 >/dev/null"}, left: "."},
		{of: "package.from", declare: "[package.salt-lamp]\nversion = \"0.2-1\"\nfrom = \"/srv/repo/salt-lamp_0.2-1_all.deb\"\n",
			look: "dpkg-query -W -f '${Version}' salt-lamp 2>/dev/null", says: "0.2-1",
			breaks: [2]string{"apt-get remove -qy salt-lamp >/dev/null", "apt-get purge -qy salt-lamp >/dev/null"}},
		{of: "repo repo.urls repo.suites repo.insecure_without_key", before: "cp -r /srv/repo /srv/at-repo",
			declare: "[repo.at]\nurls = [\"file:/srv/at-repo\"]\nsuites = [\"./\"]\ninsecure_without_key = true\n",
			look:    "apt-cache policy | grep -c /srv/at-repo", says: "1",
			breaks: [2]string{"rm /etc/apt/sources.list.d/at.sources; apt-get update -q >/dev/null",
				"sed -i s/at-repo/repo/ /etc/apt/sources.list.d/at.sources; apt-get update -q >/dev/null"}},
		{of: "repo.key repo.key_file", before: "cp -r /srv/repo /srv/at-repo2", files: map[string]string{"k.asc": repoKey},
			declare: "[repo.keyed]\nurls = [\"file:/srv/at-repo2\"]\nsuites = [\"./\"]\nkey_file = \"k.asc\"\nif = 'false'\n",
			look:    "ls /etc/apt/sources.list.d | grep -c keyed", says: "0", left: "0"},
		// files
		{of: "file file.content", declare: "[file.\"/srv/at/content\"]\ncontent = \"ebb\\n\"\n", look: "cat /srv/at/content 2>/dev/null", says: "ebb",
			breaks: [2]string{"echo flow >/srv/at/content", "rm /srv/at/content"}},
		{of: "file.template", files: map[string]string{"t.tmpl": "on {{ facts.os.id }}\n"},
			declare: "[file.\"/srv/at/template\"]\ntemplate = \"t.tmpl\"\n", look: "cat /srv/at/template 2>/dev/null", says: "on debian",
			breaks: [2]string{"echo x >>/srv/at/template", ": >/srv/at/template"}},
		{of: "file.copy", files: map[string]string{"c.bin": "a\x00b"}, declare: "[file.\"/srv/at/copy\"]\ncopy = \"c.bin\"\n",
			look: "od -An -c /srv/at/copy 2>/dev/null | tr -d ' '", says: `a\0b`, breaks: [2]string{"echo x >/srv/at/copy", "rm /srv/at/copy"}},
		{of: "file.check", declare: "[file.\"/srv/at/check\"]\ncontent = \"ebb\\n\"\ncheck = \"cp ${candidate} /tmp/at-checked\"\n",
			look: "cat /tmp/at-checked /srv/at/check 2>/dev/null", says: "ebb\nebb", breaks: [2]string{"rm /srv/at/check", "rm /srv/at/check /tmp/at-checked"}},
		{of: "file.once", declare: "[file.\"/srv/at/once\"]\ncontent = \"ebb\\n\"\nonce = true\n", look: "test -e /srv/at/once && echo there",
			says: "there", breaks: [2]string{"rm /srv/at/once", "rm /srv/at/once"}},
		{of: "file.follow", before: "mkdir /srv/at/f; ln -s f/real /srv/at/follow; echo x >/srv/at/f/real",
			declare: "[file.\"/srv/at/follow\"]\ncontent = \"ebb\\n\"\nfollow = true\n", look: "cat /srv/at/f/real; readlink /srv/at/follow",
			says: "ebb\nf/real", breaks: [2]string{"echo x >/srv/at/f/real", "rm /srv/at/f/real"}},
		{of: "file.owner file.group file.mode", declare: "[file.\"/srv/at/own\"]\ncontent = \"x\"\nowner = \"nobody\"\ngroup = \"dialout\"\nmode = \"4750\"\n",
			look: "stat -c '%U %G %a' /srv/at/own 2>/dev/null", says: "nobody dialout 4750",
			breaks: [2]string{"chown root:root /srv/at/own", "chmod 4751 /srv/at/own"}},
		{of: "dir dir.owner dir.group dir.mode", declare: "[dir.\"/srv/at/dir\"]\nowner = \"nobody\"\ngroup = \"dialout\"\nmode = \"2750\"\n",
			look: "stat -c '%U %G %a %F' /srv/at/dir 2>/dev/null", says: "nobody dialout 2750 directory",
			breaks: [2]string{"chown root:root /srv/at/dir; chmod 755 /srv/at/dir", "rmdir /srv/at/dir"}},
		{of: "dir.copy dir.file_mode dir.dir_mode dir.only_declared", files: map[string]string{"s/a": "a\n", "s/b/c": "c\n"},
			declare: "[dir.\"/srv/at/tree\"]\ncopy = \"s\"\nfile_mode = \"0640\"\ndir_mode = \"0710\"\nonly_declared = true\n",
			look:    "cd /srv/at/tree 2>/dev/null && find . -mindepth 1 -printf '%p %m\\n' | sort", says: "./a 640\n./b 710\n./b/c 640",
			breaks: [2]string{"echo x >/srv/at/tree/stray; chmod 777 /srv/at/tree/b", "rm -r /srv/at/tree/b; mkdir -p /srv/at/tree/x/y"}},
		{of: "dir.with_contents", before: "mkdir -p /srv/at/going/deep", declare: "[dir.\"/srv/at/going\"]\nabsent = true\nwith_contents = true\n",
			look: "ls -d /srv/at/going 2>/dev/null; echo .", says: ".", breaks: [2]string{"mkdir -p /srv/at/going/x", "mkdir /srv/at/going; touch /srv/at/going/y"},
			left: "."},
		{of: "download download.url download.sha256 download.owner download.group download.mode",
			declare: "[download.\"/srv/at/fetched\"]\nurl = \"http://127.0.0.1:8080/harmonics.txt\"\nsha256 = \"" + harmonicsSum +
				"\"\nowner = \"nobody\"\ngroup = \"dialout\"\nmode = \"0604\"\n",
			look: "sha256sum </srv/at/fetched | cut -d' ' -f1; stat -c '%U %G %a' /srv/at/fetched 2>/dev/null",
			says: harmonicsSum + "\nnobody dialout 604", breaks: [2]string{"echo x >>/srv/at/fetched", "chown root:root /srv/at/fetched; chmod 600 /srv/at/fetched"}},
		{of: "download.insecure_without_checksum download.headers", declare: "[download.\"/srv/at/unsure\"]\nurl = \"http://127.0.0.1:8080/harmonics.txt\"\n" +
			"insecure_without_checksum = true\nheaders = { X-Tide = \"high\" }\n", look: "wc -l </srv/at/unsure", says: "2000",
			breaks: [2]string{"rm /srv/at/unsure", "rm /srv/at/unsure"}},
		{of: "unpack unpack.from unpack.leave_out_folders unpack.owner unpack.group unpack.insecure_without_checksum",
			before: "mkdir -p /tmp/v-1/bin; echo x >/tmp/v-1/bin/v; ln -s bin/v /tmp/v-1/now; tar -C /tmp -czf /srv/web/v.tar.gz v-1",
			declare: "[unpack.\"/srv/at/v\"]\nfrom = \"http://127.0.0.1:8080/v.tar.gz\"\ninsecure_without_checksum = true\nleave_out_folders = 1\n" +
				"owner = \"nobody\"\ngroup = \"dialout\"\n",
			look: "cd /srv/at/v 2>/dev/null && find . -mindepth 1 -printf '%p %u %g\\n' | sort", says: "./bin nobody dialout\n./bin/v nobody dialout\n./now nobody dialout",
			breaks: [2]string{"rm /srv/at/v/now", "chown -h root:root /srv/at/v/bin/v"}},
		{of: "unpack.done_if_exists", before: "mkdir -p /srv/at/done; touch /srv/at/done/already",
			declare: "[unpack.\"/srv/at/done\"]\nfrom = \"http://127.0.0.1:8080/none.tar\"\ninsecure_without_checksum = true\ndone_if_exists = \"/srv/at/done/already\"\n",
			look:    "ls /srv/at/done", says: "already", left: "already"},
		{of: "checkout.url checkout.revision checkout.run_as checkout.discard_edits", before: gitPages,
			declare: "[checkout.\"/srv/at/new/pages\"]\nurl = \"/srv/at/git\"\nrevision = \"main\"\nrun_as = \"nobody\"\ndiscard_edits = true\n" +
				"[dir.\"/srv/at/new\"]\nowner = \"nobody\"\n",
			look: "cd /srv/at/new/pages 2>/dev/null && cat index && stat -c %U index && git -c safe.directory='*' status --porcelain", says: "two\nnobody",
			breaks: [2]string{"su -s /bin/sh nobody -c 'echo x >/srv/at/new/pages/index'", "su -s /bin/sh nobody -c 'cd /srv/at/new/pages; git checkout -q HEAD~1'"},
			left:   "two\nnobody"},
		{of: "link link.to", declare: "[link.\"/srv/at/link\"]\nto = \"../at/content\"\n", look: "readlink /srv/at/link", says: "../at/content",
			breaks: [2]string{"ln -sfn /tmp /srv/at/link", "rm /srv/at/link"}},
		// parts of files
		{of: "lines.put[].text lines.put[].over lines.put[].below lines.put[].above lines.take_out lines.check", before: "printf 'a 1\\nz\\nold\\n' >/srv/at/lines",
			declare: "[lines.\"/srv/at/lines\"]\nput = [{ text = \"a 2\", over = '^a ' }, { text = \"y\", above = '^z' }, { text = \"b\", below = '^a ' }]\n" +
				"take_out = ['^old']\ncheck = \"grep -q z ${candidate}\"\n",
			look: "cat /srv/at/lines", says: "a 2\nb\ny\nz", breaks: [2]string{"sed -i 's/a 2/a 3/' /srv/at/lines", "sed -i /^b/d /srv/at/lines; echo older >>/srv/at/lines"},
			away: "[lines.\"/srv/at/lines\"]\ntake_out = ['^[aby]']\n", left: "z"},
		{of: "lines.make", declare: "[lines.\"/srv/at/made\"]\nput = [{ text = \"x\" }]\nmake = true\n", look: "cat /srv/at/made", says: "x",
			breaks: [2]string{"rm /srv/at/made", ": >/srv/at/made"}, left: "x"},
		{of: "block block.content block.comment block.above block.check block.make", before: "printf 'a\\nz\\n' >/srv/at/block",
			declare: "[block.\"/srv/at/block#b\"]\ncontent = \"x\\n\"\ncomment = \"//\"\nabove = '^z'\ncheck = \"grep -q z ${candidate}\"\n" +
				"[block.\"/srv/at/block-made\"]\ncontent = \"x\\n\"\nmake = true\n",
			look: "cat /srv/at/block; cat /srv/at/block-made 2>/dev/null", says: "a\n// jadekettle b: start\nx\n// jadekettle b: end\nz\n# jadekettle block: start\nx\n# jadekettle block: end",
			breaks: [2]string{"sed -i s/^x/y/ /srv/at/block", "printf 'a\\nz\\n' >/srv/at/block; rm /srv/at/block-made"}},
		{of: "block.below", before: "printf 'a\\nz\\n' >/srv/at/block2", declare: "[block.\"/srv/at/block2#b\"]\ncontent = \"x\\n\"\nbelow = '^a'\n",
			look: "cat /srv/at/block2", says: "a\n# jadekettle b: start\nx\n# jadekettle b: end\nz",
			breaks: [2]string{"sed -i s/^x/y/ /srv/at/block2", "printf 'a\\nz\\n' >/srv/at/block2"}},
		{of: "settings.format settings.section settings.set settings.unset", before: "printf '[a]\\nx = 1\\nold = 1\\n[b]\\nx = 2\\n' >/srv/at/set.ini",
			declare: "[settings.\"/srv/at/set.ini\"]\nformat = \"ini\"\nsection = \"a\"\nset = { x = [\"\", 5] }\nunset = [\"old\"]\n",
			look:    "cat /srv/at/set.ini", says: "[a]\nx =\nx = 5\n[b]\nx = 2", breaks: [2]string{"sed -i 's/= 5/= 6/' /srv/at/set.ini", "sed -i '2iold = 3' /srv/at/set.ini"},
			away: "[settings.\"/srv/at/set.ini\"]\nformat = \"ini\"\nsection = \"a\"\nunset = [\"x\"]\n", left: "[a]\n[b]\nx = 2"},
		{of: "settings.check settings.make", declare: "[settings.\"/srv/at/set.toml\"]\nformat = \"toml\"\nset = { a = { b = [1, 2] } }\nmake = true\n" +
			"check = \"grep -q b ${candidate}\"\n", look: "cat /srv/at/set.toml", says: "a = { b = [1, 2] }",
			breaks: [2]string{"rm /srv/at/set.toml", "echo 'a = { b = [1] }' >/srv/at/set.toml"}, left: "a = { b = [1, 2] }"},
		// services
		{of: "service.running service.boot service.restart_on", before: unit("ebb"), declare: "[service.ebb]\nrunning = true\nboot = true\nrestart_on = [\"file /etc/ebb.conf\"]\n" +
			"[file.\"/etc/ebb.conf\"]\ncontent = \"1\"\n", look: "systemctl is-active ebb; systemctl is-enabled ebb; cat /run/ebb", says: "active\nenabled\n1",
			breaks: [2]string{"systemctl stop ebb", "systemctl disable -q ebb; printf 2 >/etc/ebb.conf; systemctl restart ebb"}, left: "inactive\ndisabled\n1"},
		{of: "service.reload_on", before: unit("flow"), declare: "[service.flow]\nrunning = true\nreload_on = [\"file /etc/flow.conf\"]\n[file.\"/etc/flow.conf\"]\ncontent = \"1\"\n",
			look: "systemctl is-active flow; cat /etc/flow.conf", says: "active\n1", breaks: [2]string{"printf 2 >/etc/flow.conf", "systemctl stop flow"}, left: "inactive"},
		{of: "service.masked service.optional", before: unit("slack") + "; mkdir -p /usr/local/lib/systemd/system; mv /etc/systemd/system/slack.service /usr/local/lib/systemd/system; systemctl daemon-reload", declare: "[service.slack]\nmasked = true\nrunning = false\n[service.no-such]\noptional = true\nrunning = true\n",
			look: "systemctl is-enabled slack", says: "masked", breaks: [2]string{"systemctl unmask -q slack", "systemctl unmask -q slack; systemctl start slack"},
			away: "[service.slack]\nmasked = false\n", left: "disabled"},
		{of: "after before", declare: "[file.\"/srv/at/second\"]\ncontent = \"x\"\nafter = [\"file /srv/at/third\"]\n[file.\"/srv/at/third\"]\ncontent = \"x\"\n" +
			"[file.\"/srv/at/first\"]\ncontent = \"x\"\nbefore = [\"file /srv/at/second\"]\n", look: "cd /srv/at; stat -c %n first second third 2>/dev/null",
			says: "first\nsecond\nthird", breaks: [2]string{"rm /srv/at/second", "rm /srv/at/first /srv/at/third"}},
		// accounts
		{of: "user user.uid user.group user.groups user.home user.shell user.comment user.home_mode", declare: "[user.olga]\nuid = 3101\ngroup = \"games\"\ngroups = [\"dialout\"]\n" +
			"home = \"/srv/at-olga\"\nshell = \"/bin/sh\"\ncomment = \"Keeper\"\nhome_mode = \"0711\"\n",
			look: "getent passwd olga; id -nG olga 2>/dev/null; stat -c '%U %a' /srv/at-olga 2>/dev/null", says: "olga:x:3101:60:Keeper:/srv/at-olga:/bin/sh\ngames dialout\nolga 711",
			breaks: [2]string{"usermod -s /bin/false -c x -G '' olga", "usermod -u 3102 -g users olga; chmod 700 /srv/at-olga"}, left: "UNKNOWN 711"},
		{of: "user.only_groups user.move_home", before: "useradd -m -G adm,games -d /srv/at-old petra", declare: "[user.petra]\ngroups = [\"dialout\"]\nonly_groups = true\nhome = \"/srv/at-petra\"\nmove_home = true\n",
			look: "id -nG petra 2>/dev/null; ls -d /srv/at-old /srv/at-petra 2>/dev/null", says: "petra dialout\n/srv/at-petra",
			breaks: [2]string{"usermod -aG adm petra", "usermod -m -d /srv/at-old petra"}, left: "/srv/at-petra"},
		{of: "user.keys user.only_keys", declare: "[user.kai]\nkeys = ['" + olgasKey + "']\nonly_keys = true\nhome = \"/srv/at-kai\"\n",
			look: "cat /srv/at-kai/.ssh/authorized_keys 2>/dev/null; getent passwd kai | cut -d: -f1", says: olgasKey + "\nkai",
			breaks: [2]string{"echo '" + oldKey + "' >>/srv/at-kai/.ssh/authorized_keys", "rm /srv/at-kai/.ssh/authorized_keys"}},
		{of: "user.expires", declare: "[user.nils]\nexpires = \"2031-05-31\"\nhome = \"/srv/at-nils\"\n", look: "getent shadow nils | cut -d: -f8", says: "22430",
			breaks: [2]string{"usermod -e '' nils", "usermod -e 2030-01-01 nils"}},
		{of: "user.locked", declare: "[user.lena]\nlocked = true\nhome = \"/srv/at-lena\"\n[user.jan]\nlocked = false\npassword_hash = '$6$ab$cd'\nhome = \"/srv/at-jan\"\n",
			look: "getent shadow lena jan | cut -d: -f2,8", says: "!:1\n$6$ab$cd:",
			breaks: [2]string{"usermod -e '' lena", "usermod -L jan"}},
		{of: "user.password user.password_hash", declare: "[user.ida]\npassword = \"salt & water\"\nhome = \"/srv/at-ida\"\n[user.ole]\npassword_hash = '$6$ab$ef'\nhome = \"/srv/at-ole\"\n",
			look: "printf 'salt & water\\0' | /usr/sbin/unix_chkpwd ida nullok >/dev/null 2>&1; echo $?; getent shadow ole | cut -d: -f2", says: "0\n$6$ab$ef",
			breaks: [2]string{"echo ida:x | chpasswd", "usermod -p '$6$x$y' ole"}},
		{of: "group group.gid", declare: "[group.tides]\ngid = 3200\n", look: "getent group tides", says: "tides:x:3200:", breaks: [2]string{"groupmod -g 3201 tides", "groupdel tides"}},
		{of: "sudo_rule sudo_rule.who sudo_rule.run_as sudo_rule.commands sudo_rule.password", before: "useradd -M relayer", declare: "[sudo_rule.at]\nwho = [\"relayer\"]\n" +
			"run_as = [\"nobody\"]\ncommands = [\"/usr/bin/id -un\"]\npassword = false\n", look: "su relayer -c 'sudo -n -u nobody /usr/bin/id -un' 2>/dev/null", says: "nobody",
			breaks: [2]string{"sed -i s/nobody/games/ /etc/sudoers.d/at", "rm /etc/sudoers.d/at"}},
		// system
		{of: "command.run command.done_if_exists command.run_as command.folder command.environment command.input", before: "mkdir -p /srv/at/cmd; chown nobody /srv/at/cmd",
			declare: "[command.\"make it\"]\nrun = [\"sh\", \"-c\", \"id -un >made; pwd >>made; echo $TIDE >>made; cat >>made\"]\ndone_if_exists = \"/srv/at/cmd/made\"\nrun_as = \"nobody\"\n" +
				"folder = \"/srv/at/cmd\"\nenvironment = { TIDE = \"ebb\" }\ninput = \"in\\n\"\n",
			look: "cat /srv/at/cmd/made", says: "nobody\n/srv/at/cmd\nebb\nin", breaks: [2]string{"rm /srv/at/cmd/made", "rm /srv/at/cmd/made"}, left: "nobody\n/srv/at/cmd\nebb\nin"},
		{of: "command.script command.done_if", declare: "[command.\"write it\"]\nscript = \"echo x >/srv/at/script\"\ndone_if = \"grep -q x /srv/at/script\"\n", look: "cat /srv/at/script",
			says: "x", breaks: [2]string{"rm /srv/at/script", "echo y >/srv/at/script"}, left: "x"},
		{of: "command.always only_after_change_of", declare: "[file.\"/srv/at/cause\"]\ncontent = \"1\"\n[command.\"follow it\"]\nscript = \"cp /srv/at/cause /srv/at/effect\"\n" +
			"always = true\nonly_after_change_of = [\"file /srv/at/cause\"]\n", look: "cat /srv/at/effect /srv/at/cause 2>/dev/null", says: "11",
			breaks: [2]string{"printf 2 >/srv/at/cause", "rm /srv/at/cause /srv/at/effect"}, left: "1"},
		{of: "cron cron.schedule cron.run cron.user cron.environment", declare: "[cron.at]\nschedule = \"15 3 * * 7\"\nrun = \"date +%H\"\nuser = \"nobody\"\nenvironment = { MAILTO = \"keepers@example.org\" }\n",
			look: "grep -v ^# /etc/cron.d/at", says: "MAILTO=\"keepers@example.org\"\n15 3 * * 7 nobody date +\\%H",
			breaks: [2]string{"sed -i s/nobody/root/ /etc/cron.d/at", "rm /etc/cron.d/at"}},
		{of: "sysctl sysctl.value sysctl.boot", declare: "[sysctl.\"net.ipv4.ip_forward\"]\nvalue = 1\n[sysctl.\"net.ipv4.ip_default_ttl\"]\nvalue = \"63\"\nboot = false\n",
			look: "cat /proc/sys/net/ipv4/ip_forward /proc/sys/net/ipv4/ip_default_ttl; cat /etc/sysctl.d/90-jadekettle.conf 2>/dev/null", says: "1\n63\nnet.ipv4.ip_forward = 1",
			breaks: [2]string{"echo 0 >/proc/sys/net/ipv4/ip_forward", "rm /etc/sysctl.d/90-jadekettle.conf; echo 64 >/proc/sys/net/ipv4/ip_default_ttl"}, left: "1\n63"},
		{of: "kmod kmod.boot kmod.kept_out kmod.options", declare: "[kmod.floppy]\nkept_out = true\n[kmod.dummy]\nboot = true\noptions = \"numdummies=2\"\n",
			look: "cat /etc/modprobe.d/jadekettle-* /etc/modules-load.d/jadekettle-* 2>/dev/null", says: "options dummy numdummies=2\nblacklist floppy\ninstall floppy /bin/false\ndummy",
			breaks: [2]string{"rm /etc/modprobe.d/jadekettle-*", "rm /etc/modules-load.d/jadekettle-*"},
			away:   "[kmod.floppy]\nkept_out = false\n[kmod.dummy]\nboot = false\noptions = \"\"\n"},
		{of: "mount mount.what mount.type mount.options mount.mounted mount.boot mount.check_order", before: "mkdir -p /srv/at-mnt /srv/at-mnt2",
			declare: "[mount.\"/srv/at-mnt\"]\nwhat = \"tmpfs\"\ntype = \"tmpfs\"\noptions = [\"size=1m\", \"noexec\"]\nboot = false\n" +
				"[mount.\"/srv/at-mnt2\"]\nwhat = \"tmpfs\"\ntype = \"tmpfs\"\nmounted = false\ncheck_order = 2\n",
			look: "findmnt -no FSTYPE,OPTIONS /srv/at-mnt | grep -c 'noexec.*size=1024k'; findmnt /srv/at-mnt2; grep at-mnt /etc/fstab", says: "1\ntmpfs /srv/at-mnt2 tmpfs defaults 0 2",
			breaks: [2]string{"mount -o remount,exec,size=2m tmpfs /srv/at-mnt", "umount /srv/at-mnt; sed -i /at-mnt2/d /etc/fstab"}, left: "0"},
		{of: "firewall firewall.open firewall.refuse firewall.from firewall.interface", declare: "[firewall.web]\nopen = [\"80\", \"5000-5010/udp\"]\n[firewall.house]\nopen = [\"all\"]\nfrom = [\"192.0.2.0/24\"]\n" +
			"[firewall.noisy]\nrefuse = [\"8088\"]\ninterface = \"host0\"\n", look: "nft list table inet jadekettle 2>/dev/null | grep -c -e 'dport 80 accept' -e 'iifname \"host0\".*8088 drop' -e '192.0.2.0/24.*accept'",
			says: "3", breaks: [2]string{"nft delete rule inet jadekettle incoming handle $(nft -a list chain inet jadekettle incoming | sed -n 's/.*8088.*handle //p')", "nft delete table inet jadekettle"}, left: "0"},
		{of: "hostname", declare: "[hosts_entry.\"127.0.1.1\"]\nnames = [\"pier-gauge\"]\n[hostname.pier-gauge]\n", look: "hostname; cat /etc/hostname", says: "pier-gauge\npier-gauge",
			breaks: [2]string{"hostname wrong", "echo wrong >/etc/hostname"}, away: "[hostname.gauge-01]\n", left: "gauge-01\ngauge-01"},
		{of: "timezone", declare: "[timezone.\"Europe/Berlin\"]\n", look: "readlink /etc/localtime", says: "/usr/share/zoneinfo/Europe/Berlin",
			breaks: [2]string{"ln -sf /usr/share/zoneinfo/UTC /etc/localtime", "rm /etc/localtime"}, away: "[timezone.\"Etc/UTC\"]\n", left: "/usr/share/zoneinfo/Etc/UTC"},
		{of: "locale", declare: "[locale.\"C.UTF-8\"]\n", look: "grep -h ^LANG= /etc/default/locale", says: "LANG=C.UTF-8",
			breaks: [2]string{"sed -i s/UTF-8/X/ /etc/default/locale", "rm /etc/default/locale"}, left: "LANG=C.UTF-8"},
		{of: "hosts_entry hosts_entry.names", declare: "[hosts_entry.\"192.0.2.77\"]\nnames = [\"gauge-77.example.org\", \"gauge-77\"]\n", look: "getent hosts gauge-77",
			says: "192.0.2.77      gauge-77.example.org gauge-77", breaks: [2]string{"sed -i s/gauge-77$/x/ /etc/hosts", "sed -i /gauge-77/d /etc/hosts"}},
		// what every kind takes
		{of: "for if", declare: "[file.\"/srv/at/for-${berth}\"]\nfor = \"berth in data.berths\"\nif = \"berth != 'south'\"\ncontent = \"${berth}\"\n", look: "cd /srv/at; grep -H . for-* 2>/dev/null", says: "for-north:north",
			breaks: [2]string{"rm /srv/at/for-north", "echo x >/srv/at/for-north"}},
		{of: "on_leave", declare: "[file.\"/srv/at/leaves\"]\ncontent = \"x\\n\"\non_leave = \"remove\"\n", look: "cat /srv/at/leaves 2>/dev/null", says: "x",
			breaks: [2]string{"rm /srv/at/leaves", "echo y >/srv/at/leaves"}},
		{of: "probe.port probe.url probe.run probe.script probe.file probe.process probe.resolves probe.status probe.text probe.headers probe.exit_code probe.address probe.run_as probe.asked_from",
			declare: "[probe.p1]\nport = \"127.0.0.1:8080\"\n[probe.p2]\nurl = \"http://127.0.0.1:8080/harmonics.txt\"\nstatus = 200\ntext = \"^1\"\nheaders = { X-Tide = \"ebb\" }\n" +
				"[probe.p3]\nrun = [\"id\", \"-un\"]\nrun_as = \"nobody\"\ntext = \"nobody\"\n[probe.p4]\nscript = \"exit 3\"\nexit_code = 3\n[probe.p5]\nfile = \"/etc/hostname\"\n" +
				"[probe.p6]\nprocess = \"sshd\"\n[probe.p7]\nresolves = \"localhost\"\naddress = \"127.0.0.1\"\n[probe.p8]\nport = \"192.0.2.11:22\"\nasked_from = \"controller\"\n",
			look: "grep -c probe /var/lib/jadekettle/ledger.json", says: "0", left: "0"},
	}
}

// unit is a service that writes what its file of settings holds when it starts.
func unit(name string) string {
	return "printf '[Service]\\nExecStart=/bin/sh -c \"cp /etc/" + name + ".conf /run/" + name + "; exec sleep 100000\"\\nExecReload=/bin/true\\n" +
		"[Install]\\nWantedBy=multi-user.target\\n' >/etc/systemd/system/" + name + ".service; systemctl daemon-reload"
}

// gitPages is a repository with two commits on main.
const gitPages = `export HOME=/root GIT_CONFIG_GLOBAL=/root/gc; git config --global user.email keepers@example.org
git config --global user.name Keepers; git config --global --add safe.directory '*'; mkdir -p /srv/at/git && cd /srv/at/git && git init -q -b main &&
echo one >index && git add index && git commit -qm one && echo two >index && git commit -qam two; chown -R nobody /srv/at/git`

// repoKey has the form of a key; no list is fetched by it.
const repoKey = "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nmDMEZ\n-----END PGP PUBLIC KEY BLOCK-----\n"
