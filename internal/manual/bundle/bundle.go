// Package bundle makes the script of the manual's pages: one file of the TypeScript in page, and of what it takes from
// the stubs' own client. It is for go generate and for the test that says when its result is stale, and is
// in no program that users run.
package bundle

import (
	"errors"
	"fmt"

	"github.com/evanw/esbuild/pkg/api"
)

// Script bundles page/manual.ts of the folder of the manual.
func Script(folder string) ([]byte, error) {
	result := api.Build(api.BuildOptions{
		AbsWorkingDir:     folder,
		EntryPoints:       []string{"page/manual.ts"},
		Outfile:           "page/manual.js",
		Bundle:            true,
		Format:            api.FormatIIFE, // pages from a disk can load no modules
		Platform:          api.PlatformBrowser,
		Target:            api.ES2022,
		MinifyWhitespace:  true,
		MinifySyntax:      true,
		MinifyIdentifiers: true,
		Charset:           api.CharsetUTF8,
		LegalComments:     api.LegalCommentsNone,
		TsconfigRaw:       `{}`,
		Banner:            map[string]string{"js": "// Made of page/*.ts by go generate."},
	})
	if len(result.Errors) > 0 {
		var all []error
		for _, message := range result.Errors {
			at := ""
			if l := message.Location; l != nil {
				at = fmt.Sprintf("%s:%d: ", l.File, l.Line)
			}
			all = append(all, errors.New(at+message.Text))
		}
		return nil, errors.Join(all...)
	}
	return result.OutputFiles[0].Contents, nil
}
