package command

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang/support/web"
)

// replayFile sends the calls of a record again, and prints how the answers
// differ.
func replayFile(ctx context.Context, w *World, defs *schema.Definitions, path string, options remote.Options) (int,
	error) {
	f, err := os.Open(w.path(path))
	if err != nil {
		return trouble, err
	}
	defer f.Close()
	p := report.New(w.Out, w.Look)
	// Who is asked may be the one who goes on recording into this file.
	info, err := f.Stat()
	if err != nil {
		return trouble, err
	}
	in := bufio.NewReader(io.LimitReader(f, info.Size()))
	same, different := 0, 0
	for line := 1; ; line++ {
		text, err := in.ReadBytes('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return trouble, err
		}
		if len(text) == 0 {
			break
		}
		var r remote.Recorded
		if err := json.Unmarshal(text, &r); err != nil {
			return trouble, fmt.Errorf("%s:%d is not a line of a record: %w", path, line, err)
		}
		thing, err := named(defs, r.Call, aCall)
		if err != nil {
			return trouble, fmt.Errorf("%s:%d: %w", path, line, err)
		}
		differences, err := remote.Replay(ctx, thing.(*schema.Call), &r, options)
		if err != nil {
			var unreachable *web.Unreachable
			if errors.As(err, &unreachable) {
				return trouble, fmt.Errorf("line %d, %s: %w", line, r.Call,
					(&calling{timeout: options.Timeout}).noAnswer(unreachable))
			}
			different++
			p.Line("%s  line %d  %s: %s", p.In(report.Red, "failed"), line, r.Call, report.Printable(err.Error()))
			continue
		}
		if len(differences) == 0 {
			same++
			continue
		}
		different++
		p.Line("%s  line %d  %s", p.In(report.Yellow, "differs"), line, p.In(report.Bold, r.Call))
		rows := [][]string{{"", p.In(report.Faint, "recorded"), p.In(report.Faint, "now")}}
		for _, d := range differences {
			rows = append(rows, []string{d.Path, report.Printable(clipped(d.Recorded)), report.Printable(clipped(d.Now))})
		}
		p.Table("  ", rows)
	}
	p.Line("%s sent again: %d answered alike, %d not", report.Plural(same+different, "call"), same, different)
	if different > 0 {
		return found, nil
	}
	return fine, nil
}

func clipped(s string) string {
	if runes := []rune(s); len(runes) > 40 {
		return string(runes[:39]) + "…"
	}
	return s
}
