// Package licences holds the notices of what the two programs are built upon.
package licences

import _ "embed"

// Notices lists every module and package that is part of a program or of the console, and the text of each licence.
//
//go:embed notices.txt
var Notices string

//go:generate go run ./make
