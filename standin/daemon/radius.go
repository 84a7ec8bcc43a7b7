package daemon

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"
)

// AccessControl is a real freeradius that speaks EAP.
type AccessControl struct {
	Address          string // to listen on
	Port             string // of UDP; empty: a free one
	Chain, Key, Root string // files, PEM
	Secret           string // of the network devices at 127.0.0.0/8
	TLS              string // the highest version: 1.2 or 1.3
	Methods          []string
}

// RADIUS starts an access-control server and waits until it answers.
func RADIUS(t testing.TB, a AccessControl) (port string, end func()) {
	t.Helper()
	if a.Port == "" {
		conn, err := net.ListenPacket("udp", a.Address+":0")
		if err != nil {
			t.Fatal(err)
		}
		_, a.Port, _ = net.SplitHostPort(conn.LocalAddr().String())
		conn.Close()
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "radiusd.conf"), []byte(a.config(dir)), 0o600); err != nil {
		t.Fatal(err)
	}
	return a.Port, StartSaying(t, "Ready to process requests", "/usr/sbin/freeradius", "-X", "-d", dir, "-n", "radiusd")
}

func (a AccessControl) config(dir string) string {
	methods := ""
	for _, method := range a.Methods {
		inner := "    default_eap_type = md5\n    virtual_server = inner\n"
		if method == "tls" {
			inner = ""
		}
		methods += "  " + method + " {\n    tls = common\n" + inner + "  }\n"
	}
	return fmt.Sprintf(`prefix = /usr
libdir = /usr/lib/freeradius
logdir = %[1]s
run_dir = %[1]s
max_request_time = 5
client loopback {
  ipaddr = 127.0.0.0/8
  secret = "%[2]s"
}
modules {
eap {
  default_eap_type = %[3]s
  tls-config common {
    certificate_file = %[4]s
    private_key_file = %[5]s
    ca_file = %[6]s
    tls_min_version = "1.2"
    tls_max_version = "%[7]s"
    cipher_list = "DEFAULT"
  }
%[8]s  md5 {
  }
}
}
server default {
  listen {
    type = auth
    ipaddr = %[9]s
    port = %[10]s
  }
  authorize {
    eap
  }
  authenticate {
    eap
  }
}
server inner {
  authorize {
    eap
  }
  authenticate {
    eap
  }
}
`, dir, a.Secret, a.Methods[0], a.Chain, a.Key, a.Root, a.TLS, methods, a.Address, a.Port)
}
