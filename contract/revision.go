package contract

// Revision counts the changes that people made to a thing. Who changes it names the one that was looked at (If-Match).
type Revision = int64
