// Package contract holds what travels between the service, the client and the console: resources, filters, what is
// asked for, and roles. It has no logic; the OpenAPI document is made of it.
//
// Times are RFC 3339 in UTC, durations are whole days or seconds as the name says, and fingerprints are lower-case
// hexadecimal.
package contract
