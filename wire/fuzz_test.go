package wire

import (
	"testing"

	"freshseal/core/pki/cert"
)

// What boxes send is foreign: whatever it is, reading it ends, with a chain or with none.
func FuzzHandshake(f *testing.F) {
	f.Add([]byte{22, 3, 3, 0, 10, 11, 0, 0, 6, 0, 0, 3, 0, 0, 0})
	f.Add([]byte{22, 3, 3, 0, 4, 2, 0, 0, 0, 21, 3, 3, 0, 2, 2, 40})
	f.Add([]byte{23, 3, 3, 0, 17, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17})
	// A ServerHello of TLS 1.3 with a share, and an encrypted record behind it.
	f.Add(append(append([]byte{22, 3, 3, 0, 84, 2, 0, 0, 80, 3, 3}, make([]byte, 32)...),
		append(append([]byte{0, 0x13, 1, 0, 0, 40, 0, 51, 0, 36, 0, 29, 0, 32, 9}, make([]byte, 31)...), 23, 3, 3, 0,
			17, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17)...))
	hello, err := newHello13(cert.ECDSA, "gate.tidewrack.example")
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, records []byte) {
		if done, _ := hello.see(records, &Reading{}); done {
			t.Fatal("somebody signed who knows no secret")
		}
		var reading Reading
		if reading.see(records) && len(reading.Chain) > maxChain {
			t.Fatalf("%d certificates", len(reading.Chain))
		}
		for _, suite := range []string{"TLS_AES_128_GCM_SHA256", "TLS_AES_256_GCM_SHA384",
			"TLS_CHACHA20_POLY1305_SHA256"} {
			reading.Suite = suite
			reading.seeSealed(records, []byte("SERVER_HANDSHAKE_TRAFFIC_SECRET 00 "+
				"0102030405060708090a0b0c0d0e0f100102030405060708090a0b0c0d0e0f10\n"))
		}
		certificates(records)
		certificates13(records)
	})
}
