// Growth measures how the time of reading, parsing, resolving and checking
// grows with the size of a project, and draws it:
//
//	go run ./internal/growth docs/growth.svg
//
// The figures go to standard output as a table in Markdown.
package main

import (
	"fmt"
	"log"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/source"
)

// unit is ten declarations; N stands for its number, M for its module.
const unit = `
const LARGEST_PARTY_N int32 = 12

/// How a sailing is called on the quay.
type SailingCodeN = text where pattern "^[A-Z]{3}-[0-9]{4}$"

enum DeckN { #0 unassigned #1 open #2 car retired #3 "cargo" }

union PassageN { #1 foot FootN #2 group [text] }

message FootN { #1 dogs int8? where 0..3 }

/// A place on a crossing.
message BookingN {
  #1 id      uuid
  #2 sailing SailingCodeN
  #3 passage PassageN
  #4 fare    decimal = 0 where 0..10000
  #5 made_at instant
  #6 deck    DeckN = unassigned
  #7 seats   int32 = 1 where 1..LARGEST_PARTY_N
  #8 extras  {text: decimal}
  #9 next    BookingN?
}

example one_N of FootN { dogs: 1 }

error SailingFullN 409 { #1 seats_left int32 }

credential desk_N = key header "Desk"

service BookingsN {
  needs desk_N
  /// Books a crossing.
  call book(BookingN) -> BookingN
    http POST "/M/bookings_N"
    fails SailingFullN
}
`

const unitSize = 10

// project makes a project of about so many declarations and files, each file
// a module of its own.
func project(declarations, files int) []*source.File {
	var list []*source.File
	units := declarations / unitSize
	for i := range files {
		var b strings.Builder
		fmt.Fprintf(&b, "module m%d\n", i)
		for n := i * units / files; n < (i+1)*units/files; n++ {
			b.WriteString(strings.NewReplacer("N", fmt.Sprint(n), "M", fmt.Sprintf("m%d", i)).Replace(unit))
		}
		list = append(list, source.NewFile(fmt.Sprintf("m%d.faithful", i), b.String()))
	}
	return list
}

// measure is the median time of loading a project, with its size in bytes.
func measure(declarations, files int) (median time.Duration, size int) {
	list := project(declarations, files)
	for _, f := range list {
		size += len(f.Text)
	}
	var times []time.Duration
	for begin := time.Now(); len(times) < 3 || time.Since(begin) < time.Second && len(times) < 200; {
		fresh := make([]*source.File, len(list))
		for i, f := range list {
			fresh[i] = source.NewFile(f.Name, f.Text)
		}
		start := time.Now()
		defs, findings := check.Load(fresh)
		times = append(times, time.Since(start))
		if source.Errors(findings) > 0 || defs.Count().Messages == 0 {
			log.Fatalf("%v", findings[0])
		}
	}
	slices.Sort(times)
	return times[len(times)/2], size
}

type point struct {
	declarations int
	median       time.Duration
}

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: go run ./internal/growth FILE.svg")
	}
	sizes, files := []int{10, 100, 1000, 10_000, 100_000}, []int{1, 20, 200, 2000}
	lines := map[int][]point{}
	fmt.Println("| declarations | files | bytes | time | a declaration |")
	fmt.Println("|---|---|---|---|---|")
	for _, f := range files {
		for _, n := range sizes {
			if f*unitSize > n {
				continue // not a declaration for each file
			}
			median, size := measure(n, f)
			lines[f] = append(lines[f], point{n, median})
			fmt.Printf("| %d | %d | %d | %s | %s |\n", n, f, size, median.Round(time.Microsecond),
				(median / time.Duration(n)).Round(10*time.Nanosecond))
		}
	}
	if err := os.WriteFile(os.Args[1], []byte(plot(files, lines)), 0o666); err != nil {
		log.Fatal(err)
	}
}

// plot draws times over declarations, both in powers of ten.
func plot(files []int, lines map[int][]point) string {
	const width, height, left, bottom, top = 760, 460, 80, 60, 40
	x := func(n float64) float64 { return left + (math.Log10(n)-1)/4*(width-left-150) }
	y := func(us float64) float64 { return height - bottom - (math.Log10(us)-1)/6*(height-bottom-top) }
	var b strings.Builder
	p := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	p(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="sans-serif" font-size="13" fill="#24323d">`, width, height)
	p(`<rect width="%d" height="%d" fill="#ffffff"/>`, width, height)
	p(`<text x="%d" y="22" font-size="15">Reading, parsing, resolving and checking grows in a straight line</text>`, left)
	for e := 1; e <= 5; e++ {
		n := math.Pow10(e)
		p(`<line x1="%.1f" y1="%d" x2="%.1f" y2="%d" stroke="#e3e8ec"/>`, x(n), top, x(n), height-bottom)
		p(`<text x="%.1f" y="%d" text-anchor="middle">%s</text>`, x(n), height-bottom+20, grouped(int(n)))
	}
	for e, label := range []string{"10 µs", "100 µs", "1 ms", "10 ms", "100 ms", "1 s", "10 s"} {
		us := math.Pow10(e + 1)
		p(`<line x1="%d" y1="%.1f" x2="%.1f" y2="%.1f" stroke="#e3e8ec"/>`, left, y(us), x(1e5), y(us))
		p(`<text x="%d" y="%.1f" text-anchor="end">%s</text>`, left-8, y(us)+4, label)
	}
	p(`<text x="%.1f" y="%d" text-anchor="middle">declarations</text>`, x(1000), height-bottom+42)
	// What would be exactly linear, from the largest project in one file.
	last := lines[1][len(lines[1])-1]
	each := float64(last.median.Microseconds()) / float64(last.declarations)
	p(`<line x1="%.1f" y1="%.1f" x2="%.1f" y2="%.1f" stroke="#9aa7b1" stroke-dasharray="5 4"/>`, x(10),
		y(math.Max(10, each*10)), x(1e5), y(each*1e5))
	p(`<text x="%.1f" y="%.1f" fill="#6b7882">%.1f µs each</text>`, x(1e5)+12, y(each*1e5)-10, each)
	colours := []string{"#1f5f8b", "#b3541e", "#3f7d4e", "#7a4a8c"}
	for i, f := range files {
		var points []string
		for _, q := range lines[f] {
			at := fmt.Sprintf("%.1f,%.1f", x(float64(q.declarations)), y(float64(q.median.Nanoseconds())/1000))
			points = append(points, at)
			cx, cy, _ := strings.Cut(at, ",")
			p(`<circle cx="%s" cy="%s" r="3.5" fill="%s"/>`, cx, cy, colours[i])
		}
		p(`<polyline points="%s" fill="none" stroke="%s" stroke-width="2"/>`, strings.Join(points, " "), colours[i])
		noun := "files"
		if f == 1 {
			noun = "file"
		}
		p(`<line x1="%d" y1="%d" x2="%d" y2="%d" stroke="%s" stroke-width="2"/><text x="%d" y="%d">%s %s</text>`,
			left+16, top+16+i*20, left+40, top+16+i*20, colours[i], left+48, top+20+i*20, grouped(f), noun)
	}
	p(`</svg>`)
	return b.String()
}

// grouped writes a number with commas.
func grouped(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
