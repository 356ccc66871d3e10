package backupstore

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"verimorph/core/backup"
)

// The store against a map: whatever is taken, tidied, let go and opened anew in whatever order, what should be there is
// there with its content, what was let go and tidied is gone, and the check agrees.
func TestStoreIsAMapOfBundles(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, keys := t.TempDir(), newRing(t)
		s, err := Open(dir, keys)
		require.NoError(rt, err)
		defer func() { s.Close() }()
		type bundle map[string]string
		kept, gone := map[string]bundle{}, map[string]bool{}
		for step := range rapid.IntRange(1, 14).Draw(rt, "steps") {
			switch rapid.SampledFrom([]string{"put", "put", "put", "let go", "tidy", "tidy all", "anew", "reopen"}).Draw(rt, "what") {
			case "put":
				m := &backup.Manifest{Device: rapid.SampledFrom([]string{"a", "b"}).Draw(rt, "device"), TakenAt: time.Unix(int64(step), 0), Reason: backup.OnDemand}
				content, parts := bundle{}, map[string][]byte{}
				for i := range rapid.IntRange(0, 3).Draw(rt, "parts") {
					name := fmt.Sprintf("p%d", i)
					content[name] = rapid.SampledFrom([]string{"", "x", "the same everywhere", "long " + string(make([]byte, 5000)), fmt.Sprint("of its own ", step)}).Draw(rt, "content")
					parts[name] = []byte(content[name])
					m.Parts = append(m.Parts, backup.Part{Name: name, Title: name, Kind: backup.Plan, File: name})
				}
				sum, err := s.Put(m, parts)
				require.NoError(rt, err)
				kept[sum] = content
			case "let go":
				for sum := range kept {
					delete(kept, sum)
					gone[sum] = true
					break
				}
			case "tidy", "tidy all":
				_, err := s.Tidy(t.Context(), Tidying{All: rapid.Bool().Draw(rt, "all"), Gone: func(sum string) bool { return gone[sum] }})
				require.NoError(rt, err)
			case "anew":
				_, err := s.Tidy(t.Context(), Tidying{Anew: true, Gone: func(sum string) bool { return gone[sum] }})
				require.NoError(rt, err)
			case "reopen":
				s.Close()
				s, err = Open(dir, keys)
				require.NoError(rt, err)
			}
			var expect []string
			for sum, content := range kept {
				expect = append(expect, sum)
				m, err := s.Manifest(sum)
				require.NoError(rt, err)
				require.Len(rt, m.Parts, len(content))
				for _, p := range m.Parts {
					data, err := s.Read(p.SHA256)
					require.NoError(rt, err)
					require.Equal(rt, content[p.Name], string(data))
				}
			}
			if expect == nil {
				expect = []string{}
			}
			r, err := s.Check(t.Context(), Checking{Expect: expect, Deep: true})
			require.NoError(rt, err)
			require.Empty(rt, r.Damages)
			for _, unknown := range r.Unknown {
				require.True(rt, gone[unknown], "what was never let go is known")
			}
		}
		_, err = s.Tidy(t.Context(), Tidying{All: true, Gone: func(sum string) bool { return gone[sum] }})
		require.NoError(rt, err)
		there, err := s.Bundles()
		require.NoError(rt, err)
		require.Len(rt, there, len(kept), "what was let go takes no room")
	})
}

// An index that was made by somebody with the key, but does not fit, is refused and never panics.
func FuzzDecodeIndex(f *testing.F) {
	x := &index{Level: 1, Groups: []group{{19, 10, digest{1}, []object{{digest{2}, 5}, {digest{3}, 6}}}}, Bundles: []entry{{digest{2}, []digest{{3}, {9}}}}}
	good, err := x.encode()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add([]byte("{}\n"))
	f.Add([]byte(`{"format":"verimorph-volume/2"}` + "\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		got, err := decodeIndex(data, 19, 29)
		if err != nil {
			return
		}
		again, err := got.encode()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := decodeIndex(again, 19, 29); err != nil {
			t.Fatalf("what was read cannot be written: %v", err)
		}
	})
}
