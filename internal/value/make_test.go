package value

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

func loaded(t testing.TB, text string) *schema.Definitions {
	t.Helper()
	defs, findings := check.Load([]*source.File{source.NewFile("a.faithful", text)})
	for _, f := range findings {
		require.NotEqual(t, source.Error, f.Severity, "%s: %s", f.Name, f.Message)
	}
	return defs
}

// Every bound of the language, alone and together with that of a named type.
const boundedEverywhere = `module skerry.bounded
enum Deck { #0 open #1 car #2 old deprecated "gone" }
type Code = text where pattern "^[A-Z]{3}-[0-9]{4}$"
type Name = text where length 2..12
type Fare = decimal where "0.25".."9.75"
type Table = {uint8: Fare} where count 3..4
type Group = [Name] where count 2..5, unique
union Way { #1 foot Leaf #2 again All #3 group Group }
message Leaf { #1 a int32? }
union Nest { #1 deeper [Nest] #2 named {text: Other} #3 leaf text }
union Other { #1 back Nest #2 both [Other] }
message Nests { #1 nest Nest #2 others [Other] }
message Tree { #1 below [Tree] #2 next Tree? #3 by {text: Tree} }
message All {
  #1 a Code where length 8..8
  #2 b text where length 40..40
  #3 c text where pattern "^[a-c]+$", length 5..6
  #4 d Fare where 9..100
  #5 e decimal where "0.001".."0.002"
  #6 f int8 where -128..-127
  #7 g uint64 where >= 18446744073709551610
  #8 h float64 where 0.5..0.5
  #9 i float32 where <= -3
  #10 j instant where "1968-05-01T00:00:00.5Z".."1968-05-01T00:00:01Z"
  #11 k date where >= "2031-01-01"
  #12 l duration where "PT1S".."PT2S"
  #13 m bytes where length 3..4
  #14 n [Deck] where count 2..2, unique
  #15 o Table
  #16 p Group where count <= 3
  #17 q Way
  #18 r Tree?
  #19 s int64 where <= -9223372036854775807
  #20 t {Deck: [uuid]} where count 2..2
  #21 u text = "as it is"
  #22 v any
  #23 w {text: Name} where count 30..40
  #24 x date where <= "0001-01-05"
  #25 y Name? where pattern "q"
}
`

func TestMadeValuesAreLawful(t *testing.T) {
	defs := loaded(t, boundedEverywhere)
	for _, m := range defs.Modules[0].Messages {
		texts := map[string]bool{}
		for seed := range uint64(200) {
			maker := NewMaker(defs, seed)
			for range 3 {
				v, err := maker.Make(m)
				require.NoError(t, err, "%s, seed %d", m.Name, seed)
				text, err := EncodeJSON(v)
				require.NoError(t, err)
				texts[string(text)] = true
				again, err := DecodeJSON(m, text, 0)
				require.NoError(t, err, "%s", text)
				require.Empty(t, Validate(again), "%s", text)
				binary, err := EncodeCBOR(v)
				require.NoError(t, err)
				fromBinary, err := DecodeCBOR(m, binary, 0)
				require.NoError(t, err)
				require.True(t, Equal(again, fromBinary), "%s", text)
			}
		}
		assert.Greater(t, len(texts), 1, m.Name)
		one, err := NewMaker(defs, 7).Make(m)
		require.NoError(t, err)
		two, err := NewMaker(defs, 7).Make(m)
		require.NoError(t, err)
		assert.True(t, Equal(one, two), "the same for the same seed")
	}
}

func TestContradictionsAreSaid(t *testing.T) {
	for where, want := range map[string]string{
		`text where pattern "^[A-Z]{3}$", length 4..9`: `no text of 4 to 9 characters matches ^[A-Z]{3}$`,
		`Code where pattern "^[a-z]+$"`:                `no text matches ^[A-Z]+$ and ^[a-z]+$`,
		`[bool] where count 3..3, unique`:              "at least 3 elements that are unique were not found",
		`{Deck: text} where count 2..2`:                "at least 2 entries of different keys were not found",
		`text where length >= 2000000`:                 "at least 2000000 characters are more than is made here",
		`[Code] where count 1..2`:                      "",
		`text where pattern "^(ab){2,}$", length 5..7`: "",
		`text where pattern "^(ab){2,}$", length 5..5`: "no text of 5 characters matches ^(ab){2,}$",
	} {
		defs := loaded(t, fmt.Sprintf("module a\nenum Deck { #0 open }\ntype Code = text where pattern "+
			"\"^[A-Z]+$\"\nmessage M { #1 x %s }", where))
		_, err := NewMaker(defs, 0).Make(defs.Modules[0].Messages[0])
		if want == "" {
			require.NoError(t, err, where)
			continue
		}
		var impossible *Impossible
		require.ErrorAs(t, err, &impossible, where)
		assert.Equal(t, Violation{Pointer: "/x", Detail: want}, impossible.Problems[0], where)
		assert.Contains(t, err.Error(), "no value of a.M could be made")
	}
}

// TestMinimalOfUnionsInCircles makes the smallest values of unions whose every
// alternative may lead back to them.
func TestMinimalOfUnionsInCircles(t *testing.T) {
	defs := loaded(t, `module skerry.circles
union Leg { #1 sailed Sailed #2 walked Walked #3 several [Leg] }
message Sailed { #1 before Leg }
message Walked { #1 on Leg #2 way Way }
union Way { #1 leg Leg #2 lane Lane }
message Lane { #1 ways [Way] where count 1..3 }
message Trip { #1 leg Leg #2 way Way #3 ways {text: Way} where count 2..4 }
`)
	smallest := map[string]*Message{}
	for _, m := range defs.Modules[0].Messages {
		smallest[m.Name] = MinimalMessage(m)
		assert.Empty(t, Validate(smallest[m.Name]), m.Name)
	}
	trip := smallest["Trip"]
	assert.Equal(t, &Union{Number: 3, Value: List{}}, trip.Fields[1])
	assert.Equal(t, &Union{Number: 1, Value: trip.Fields[1]}, trip.Fields[2])
}

// TestMadeValuesStaySmall makes values of what would grow without end: by optional fields,
// lists in lists and alternatives that lead on.
func TestMadeValuesStaySmall(t *testing.T) {
	text := "module a\n"
	for i := range 60 {
		text += fmt.Sprintf("message Mm%d { #1 a Mm%d? #2 b Mm%d? #3 l "+
			"[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[int32]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]] #4 u Way #5 m {text: {text: {text: {text: Way}}}} }\n", i, i+1, i+1)
	}
	text += "message Mm60 { #1 a int32 }\nunion Way { #1 on Mm1 #2 many [Mm2] #3 end int32 }\n"
	defs := loaded(t, text)
	start := time.Now()
	m := NewMaker(defs, 0)
	for range 30 {
		v, err := m.Make(defs.Modules[0].Messages[0])
		require.NoError(t, err)
		b, err := EncodeCBOR(v)
		require.NoError(t, err)
		require.Less(t, len(b), 1<<20)
	}
	require.Less(t, time.Since(start), 10*time.Second)
}
