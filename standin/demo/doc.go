// Package demo is the fleet of Tidewrack Ferries in stand-ins: its devices and the ways to its ships, the Harbour
// Authority, which signs, and the mailbox and sinks that messages and files go to.
package demo
