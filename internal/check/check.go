// Package check reads files into definitions that are right, or says all that is wrong
// with them: what the definitions themselves refuse (schema) and what can't travel over
// HTTP (conversation). What could be better is package advice's. It must not know
// projects or files on disk.
//
//	check.go  files → definitions
//	fix.go    carrying out the fixes that are certain
package check

import (
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// Load reads files into definitions. The findings are sorted by place; the definitions
// are right if there is no error among them.
func Load(files []*source.File) (*schema.Definitions, []source.Finding) {
	findings := &source.Findings{}
	defs := schema.Resolve(schema.Parse(files, findings), findings)
	conversation.Check(defs, findings)
	return defs, findings.Sorted()
}
