package cert

import (
	"crypto/x509"
	"slices"
)

// Allows reports whether the certificate may be used as use says. One without extended key usages may be used for
// anything (RFC 5280, 4.2.1.12).
func (c *Certificate) Allows(use x509.ExtKeyUsage) bool {
	return len(c.ExtKeyUsage)+len(c.UnknownExtKeyUsage) == 0 || slices.Contains(c.ExtKeyUsage, use) ||
		slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageAny)
}
