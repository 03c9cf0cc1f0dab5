package dir

import "strings"

// system are the folders that a host cannot be without, or that hold what many put there: those of
// the Filesystem Hierarchy Standard 3.0, and of what manages the host. What is in them goes by
// narrower declarations.
const system = " / /bin /boot /dev /etc /home /lib /lib32 /lib64 /libx32 /lost+found /media /mnt /opt /proc /root " +
	"/run /sbin /srv /sys /tmp /usr /var /etc/apt /etc/init.d /etc/pam.d /etc/ssh /etc/ssl /etc/systemd " +
	"/lib/systemd /lib/systemd/system /run/systemd /usr/bin /usr/include /usr/lib /usr/lib32 /usr/lib64 " +
	"/usr/lib/systemd /usr/lib/systemd/system /usr/libexec /usr/local /usr/local/bin /usr/local/lib " +
	"/usr/local/sbin /usr/sbin /usr/share /usr/src /var/cache /var/lib /var/lib/apk /var/lib/apt /var/lib/dpkg " +
	"/var/lib/jadekettle /var/lib/pacman /var/lib/rpm /var/lib/systemd /var/log /var/mail /var/opt /var/run " +
	"/var/spool /var/tmp "

// isSystem says whether a folder is one of these.
func isSystem(name string) bool { return strings.Contains(system, " "+name+" ") }
