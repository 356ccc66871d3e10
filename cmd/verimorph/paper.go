package main

import (
	"io"
	"net/http"
	"path/filepath"
	"strings"

	api "verimorph/api/client"
	"verimorph/api/gen"
)

// writePaper writes a report of the service to a file, in the format that its name ends in.
func (c *client) writePaper(file string, get func(*api.Client, gen.PaperFormat) (*http.Response, error)) error {
	format := gen.PaperFormat(strings.TrimPrefix(filepath.Ext(file), "."))
	if !format.Valid() {
		return errUsage{"-o names a file that ends in .html or .pdf"}
	}
	data, err := call[string](c, func(a *api.Client) (*http.Response, error) { return get(a, format) })
	if err != nil {
		return err
	}
	if err := writeFile(file, func(w io.Writer) error { _, err := io.WriteString(w, data); return err }); err != nil {
		return err
	}
	return c.show(map[string]string{"file": file}, func() { c.printf("Written to %s\n", file) })
}
