package conversation

import (
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/syntax"
)

// Alternatives are the sets of carriers (schema.Credential.Carries) of which a call needs
// one; a call that needs nothing has one empty set.
func Alternatives(c *schema.Call) [][]string {
	if len(c.Needs) == 0 {
		return [][]string{nil}
	}
	var list [][]string
	for _, alternative := range c.Needs {
		var carriers []string
		for _, k := range alternative {
			carriers = append(carriers, k.Carries())
		}
		list = append(list, carriers)
	}
	return list
}

// LetsIn tells whether a server of a call takes a request that shows some carriers.
func LetsIn(c *schema.Call, shown []string) bool {
	return slices.ContainsFunc(Alternatives(c), func(needed []string) bool {
		return !slices.ContainsFunc(needed, func(carrier string) bool { return !slices.Contains(shown, carrier) })
	})
}

// Variable is the environment variable that holds a credential, by its name, in command lines.
func Variable(name string) string {
	return strings.ToUpper(syntax.SnakeCase(name[strings.LastIndexByte(name, '.')+1:]))
}

// FirstNeeded are the credentials of the first alternative that a call needs: any will do, and that is the one that
// people think of first.
func FirstNeeded(c *schema.Call) []*schema.Credential {
	if len(c.Needs) == 0 {
		return nil
	}
	return c.Needs[0]
}
