package daemon

import (
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"
)

// Postfix starts postfix at an address, with its files below a folder that others may enter and these lines of
// main.cf besides. It takes mail for quay.tidewrack.example, all of it into the file mail/box. Only root can start it.
func Postfix(t testing.TB, dir, address, port, main string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("postfix must be started by root")
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	owner, err := user.Lookup("postfix")
	must(err)
	uid, _ := strconv.Atoi(owner.Uid)
	gid, _ := strconv.Atoi(owner.Gid)
	for _, name := range []string{"data", "mail", "queue/pid", "queue/private", "queue/public", "queue/active",
		"queue/incoming", "queue/maildrop", "queue/bounce", "queue/defer", "queue/deferred"} {
		must(os.MkdirAll(filepath.Join(dir, name), 0o755))
		must(os.Chown(filepath.Join(dir, name), uid, gid))
	}
	must(os.MkdirAll(filepath.Join(dir, "etc"), 0o755))
	must(os.WriteFile(filepath.Join(dir, "etc/main.cf"), []byte("compatibility_level = 3.6\nqueue_directory = "+dir+
		"/queue\ndata_directory = "+dir+"/data\nmaillog_file = "+dir+"/queue/log\nmaillog_file_prefixes = "+dir+
		"\ninet_interfaces = all\nlocal_recipient_maps =\nvirtual_mailbox_domains = "+
		"quay.tidewrack.example\nvirtual_mailbox_base = "+dir+"/mail\nvirtual_mailbox_maps = "+
		"static:box\nvirtual_minimum_uid = 1\nvirtual_uid_maps = static:"+owner.Uid+
		"\nvirtual_gid_maps = static:"+owner.Gid+"\n"+main), 0o644))
	must(os.WriteFile(filepath.Join(dir, "etc/master.cf"),
		[]byte(net.JoinHostPort(address, port)+" inet n - n - - smtpd\ntlsmgr unix - - n 1000? 1 tlsmgr\nrewrite "+
			"unix - - n - - trivial-rewrite\nanvil unix - - n - 1 anvil\n"+
			"cleanup unix n - n - 0 cleanup\nqmgr unix n - n 300 1 qmgr\nvirtual unix - n n - - "+
			"virtual\nbounce unix - "+
			"- n - 0 bounce\ndefer unix - - n - 0 bounce\npostlog unix-dgram n - n - 1 postlogd\n"), 0o644))
	if log, err := exec.Command("chmod", "-R", "a+rX", filepath.Join(dir, "etc")).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, log)
	}
	Start(t, net.JoinHostPort(address, port), "/usr/lib/postfix/sbin/master", "-c", filepath.Join(dir, "etc"), "-d")
}
