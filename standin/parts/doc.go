// Package parts are what several kinds of stand-ins are put together of: sign-in and forms of web pages, tasks,
// certificates as named objects, services that stop, nodes that take what their first one has.
package parts
