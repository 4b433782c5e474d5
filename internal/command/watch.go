package command

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"

	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
)

// settle is how long files must be quiet before they are read: editors write
// several times, and several files at once.
const settle = 50 * time.Millisecond

// watchProject generates whenever definitions or faithful.toml change, until it
// is interrupted. Wrong definitions leave the last good stubs in place.
func watchProject(w *World, g *generation) (int, error) {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	p, err := openProject(w.Dir)
	if err != nil {
		return trouble, err
	}
	err = eachSave(ctx, p.Dir, "", func(failed error) {
		if failed != nil {
			fmt.Fprintf(w.Err, "faithful generate: watching: %v\n", failed)
			return
		}
		g.again(w)
	})
	if err != nil {
		return trouble, err
	}
	return fine, nil
}

// eachSave acts at once, and again whenever definitions or faithful.toml of a project, or another file, have changed,
// until the context ends. It acts with an error where changes may have been missed.
func eachSave(ctx context.Context, dir, other string, act func(missed error)) error {
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer watcher.Close()
	watchFolders(watcher, dir)
	if other != "" {
		_ = watcher.Add(filepath.Dir(other)) // a folder that is not there has nothing to say
	}
	act(nil)
	quiet := time.NewTimer(time.Hour)
	quiet.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case event := <-watcher.Events:
			if event.Has(fsnotify.Create) {
				if info, err := os.Stat(event.Name); err == nil && info.IsDir() {
					watchFolders(watcher, event.Name)
				}
			}
			if isInput(event.Name) || event.Name == other {
				quiet.Reset(settle)
			}
		case err := <-watcher.Errors:
			act(err)
		case <-quiet.C:
			act(nil)
		}
	}
}

// isInput tells files that stubs are made from.
func isInput(path string) bool {
	return strings.HasSuffix(path, ".faithful") || filepath.Base(path) == project.ConfigName
}

// watchFolders watches a folder and those below it, but for those that hold
// no definitions of ours.
func watchFolders(watcher *fsnotify.Watcher, dir string) {
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil // a folder that can't be read has nothing for us
		}
		if name := d.Name(); path != dir && (strings.HasPrefix(name, ".") || name == "node_modules") {
			return fs.SkipDir
		}
		return watcher.Add(path)
	})
}

// again generates once, and says in a line what came of it, or what is wrong.
func (g *generation) again(w *World) {
	at := w.Now().Format("15:04:05")
	p := report.New(w.Out, w.Look)
	opened, err := openProject(w.Dir)
	if err != nil {
		var bad *project.BadConfig
		if errors.As(err, &bad) {
			p.Findings(bad.Findings)
		}
		p.Line("%s %s the last good stubs stay: %v", at, p.In(report.Red, "wrong"), err)
		return
	}
	defs, findings, err := opened.Definitions()
	if err == nil && source.Errors(findings) > 0 {
		_, _ = mistakes(w, "text", findings) // it says all that there is to say
		p.Line("%s %s the last good stubs stay", at, p.In(report.Red, "wrong"))
		return
	}
	var outputs []project.Output
	var plans []*stubs.Plan
	if err == nil {
		outputs, plans, err = g.plan(opened, defs)
	}
	if err != nil {
		p.Line("%s %s the last good stubs stay: %v", at, p.In(report.Red, "wrong"), err)
		return
	}
	for i, plan := range plans {
		if len(plan.Conflicts) > 0 {
			printPlan(p, outputs[i], plan, false, true)
			p.Line("%s %s nothing was written", at, p.In(report.Red, "wrong"))
			return
		}
	}
	if err := w.apply(plans); err != nil {
		p.Line("%s %s %v", at, p.In(report.Red, "wrong"), err)
		return
	}
	var parts []string
	for i, plan := range plans {
		parts = append(parts, fmt.Sprintf("%s %s: %s", outputs[i].Language, outputs[i].Into, planSummary(plan, false)))
	}
	p.Line("%s %s %s", at, p.In(report.Green, "fine"), strings.Join(parts, "; "))
}
