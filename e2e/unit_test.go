package e2e

import (
	"os/exec"
	"testing"
)

// The unit of the package confines the service: systemd rates its exposure at 2 or
// better, of 10.
func TestTheUnitConfinesTheService(t *testing.T) {
	t.Parallel()
	out, err := exec.CommandContext(t.Context(), "systemd-analyze", "security", "--offline=true", "--threshold=20",
		"--no-pager", "../build/debian/freshseal.service").CombinedOutput()
	if err != nil {
		t.Errorf("%v\n%s", err, out)
	}
}
