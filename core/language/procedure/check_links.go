package procedure

import (
	"strings"
)

// sessionHeaders sees that what each call carries is there once somebody is signed in.
func (c *checker) sessionHeaders() {
	if len(c.p.Headers) == 0 || len(c.p.Steps[Session]) == 0 {
		return
	}
	for _, each := range c.p.Headers {
		c.text(Survey, &c.p.Steps[Session][0], &Step{}, use{each.Text, inHeader})
	}
}

// helped sees that a step on another device only makes key and request there, in the
// work folder: what is undone and kept is that of the device which is worked on.
func (c *checker) helped(section Section, step *Step) {
	if step.On == "" {
		return
	}
	c.used[step.On] = true
	setting, _ := c.p.Setting(step.On)
	path := step.Do.Writes()
	switch {
	case setting.Kind != OtherDevice:
		c.faultAt(step, step.On, "name a setting of the kind device", "on names %q, which is not a setting of the "+
			"kind device", step.On)
	case step.Do.Link() != SSH:
		c.fault(step, "leave on out", "%s is not done on a device that helps", step.Do.Word())
	case section != Survey && section != Request:
		c.fault(step, "move the step to request", "a device that helps only makes key and request")
	case path != "" && !strings.HasPrefix(path, "{{work}}/"):
		c.fault(step, "write a path in {{work}}", "on a device that helps, files are written in the work folder alone")
	}
}
