package contract

// Version is the version of the program and of its API.
const Version = "0.2.0"
