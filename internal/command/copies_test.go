package command

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"faithfulcourier/internal/toolchain"
)

// TestCopiesWork runs every command line of the ferries' manual, as it is on its page, against a mock.
func TestCopiesWork(t *testing.T) {
	ferry := filepath.Join(toolchain.Root(), "examples", "ferry")
	folder := filepath.Join(t.TempDir(), "manual")
	output, err := toolchain.Faithful(t, ferry, "manual", "--into", folder).CombinedOutput()
	require.NoError(t, err, "%s", output)
	address := runMock(t, t.TempDir(), "--of", filepath.Join(ferry, "definitions")) // without its faults
	pages, err := filepath.Glob(filepath.Join(folder, "services", "*.html"))
	require.NoError(t, err)
	pages = append(pages, filepath.Join(folder, "index.html"))
	ran := map[string]int{}
	for _, at := range pages {
		content, err := os.ReadFile(at)
		require.NoError(t, err)
		page, err := html.Parse(bytes.NewReader(content))
		require.NoError(t, err)
		for n := range page.Descendants() {
			if n.Data != "code" || n.Parent.Data != "pre" || n.FirstChild == nil {
				continue
			}
			line := n.FirstChild.Data
			tool, _, _ := strings.Cut(line, " ")
			if tool != "faithful" && tool != "curl" {
				continue
			}
			if _, err := exec.LookPath(tool); tool == "curl" && err != nil {
				t.Log("skipped: there is no curl here")
				continue
			}
			ran[tool]++
			shell := exec.Command("bash", "-c", strings.ReplaceAll(strings.Replace(line, "curl ", "curl --fail ", 1),
				exampleServer, address))
			shell.Dir = ferry
			shell.Env = append(os.Environ(), "CREW=a-token", "DOOR=north pier", "MACHINE=m", "SCREEN=s", "OFFICE=ada:secret",
				"PATH="+filepath.Dir(toolchain.Program(t))+string(os.PathListSeparator)+os.Getenv("PATH"))
			output, err := shell.CombinedOutput()
			assert.NoError(t, err, "%s\n%s", line, output)
		}
	}
	assert.Equal(t, 16, ran["faithful"], "each of the 15 calls, and the first one of the start page")
	assert.True(t, ran["curl"] == 15 || ran["curl"] == 0, "one call goes both ways over a WebSocket: %v", ran)
}
