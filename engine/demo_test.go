package engine

import (
	"os"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/convert"
	"verimorph/core/yamldoc"
	"verimorph/simfleet/firmware"
)

// What all tests share, since making it takes longer than many of them: the demo catalogue, its conversions, its images. Nobody changes it.
var (
	catalogue = sync.OnceValues(func() (*catalog.Catalogue, catalog.Findings) { return catalog.ReadDir(os.DirFS("../demo/catalog")) })
	library   = sync.OnceValues(func() (*convert.Library, yamldoc.Findings) { return convert.ReadDir(os.DirFS("../demo/catalog")) })

	contents   = map[string][]byte{} // by file name
	contentsMu sync.Mutex
)

func demoCatalogue(t *testing.T) *catalog.Catalogue {
	c, found := catalogue()
	require.Empty(t, found)
	return c
}

func demoLibrary(t *testing.T) *convert.Library {
	lib, found := library()
	require.Empty(t, found.Errors())
	return lib
}

// content is the image of the demo catalogue with a checksum, and what the catalogue says about it.
func content(t *testing.T, sum string) ([]byte, catalog.Listed) {
	all := demoCatalogue(t).Images()
	i := slices.IndexFunc(all, func(l catalog.Listed) bool { return l.SHA256 == sum })
	require.GreaterOrEqual(t, i, 0, "no image with checksum %s", sum)
	contentsMu.Lock()
	defer contentsMu.Unlock()
	if contents[sum] == nil {
		data, err := firmware.Content(&all[i])
		require.NoError(t, err)
		contents[sum] = data
	}
	return contents[sum], all[i]
}
