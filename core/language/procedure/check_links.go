package procedure

import (
	"strings"

	"freshseal/core/language/value"
)

// sessionHeaders checks that what each call carries is there once somebody is signed in.
func (c *Checker) sessionHeaders() {
	if len(c.P.Headers) == 0 || len(c.P.Steps[Session]) == 0 {
		return
	}
	for _, each := range c.P.Headers {
		c.Text(Survey, &c.P.Steps[Session][0], &Step{}, Use{each.Text, InHeader})
	}
}

// helped checks that a step on another device only makes key and request there, in the
// work folder: what is undone and kept is that of the device which is worked on.
func (c *Checker) helped(section Section, step *Step) {
	if step.On == "" {
		return
	}
	c.used[step.On] = true
	setting, _ := c.P.Setting(step.On)
	path := step.Do.Writes()
	switch {
	case setting.Kind != value.OtherDevice:
		c.FaultAt(step, step.On, "name a setting of the kind device", "on names %q, which is not a setting of the "+
			"kind device", step.On)
	case step.Do.Link() != SSH:
		c.Fault(step, "leave on out", "%s is not done on a device that helps", step.Do.Word())
	case section != Survey && section != Request:
		c.Fault(step, "move the step to request", "a device that helps only makes key and request")
	case path != "" && !strings.HasPrefix(path, "{{work}}/"):
		c.Fault(step, "write a path in {{work}}", "on a device that helps, files are written in the work folder alone")
	}
}
