module freshseal

go 1.26.0

require (
	golang.org/x/crypto v0.58.0
	golang.org/x/net v0.61.0
)

require (
	github.com/goccy/go-yaml v1.19.2 // indirect
	golang.org/x/text v0.43.0 // indirect
)
