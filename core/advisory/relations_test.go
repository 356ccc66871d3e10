package advisory

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
)

// related is a document whose products are made by relationships.
func related(relationships, status string) []byte {
	return fmt.Appendf(nil, `{"document":{"csaf_version":"2.0","tracking":{"id":"A","current_release_date":"2026-01-01T00:00:00Z"}},
"product_tree":{"branches":[{"category":"vendor","name":"Tarnholm","branches":[
  {"category":"product_name","name":"th","branches":[
    {"category":"product_version_range","name":"vers:generic/>=5.0|<5.4.2","product":{"product_id":"FW-old","name":"old"}},
    {"category":"product_version","name":"5.4.2","product":{"product_id":"FW-new","name":"new"}}]},
  {"category":"product_name","name":"TH-60","product":{"product_id":"HW-60","name":"TH-60"}},
  {"category":"product_name","name":"TH-80","product":{"product_id":"HW-80","name":"TH-80"}}]}],
 "full_product_names":[{"product_id":"LIB","name":"a library"}],
 "product_groups":[{"group_id":"G","product_ids":["old-on-60","new-on-60"]}],
 "relationships":[%s]},
"vulnerabilities":[{"product_status":%s,
 "remediations":[{"category":"vendor_fix","details":"install 5.4.2","group_ids":["G"],"restart_required":{"category":"system"},"url":"https://example.org/a"},
                 {"category":"workaround","details":"switch the web side off","product_ids":["old-on-60"]}],
 "flags":[{"label":"vulnerable_code_not_present","product_ids":["new-on-60"]}]}]}`, relationships, status)
}

const (
	old60 = `{"category":"installed_on","full_product_name":{"product_id":"old-on-60","name":"x"},"product_reference":"FW-old","relates_to_product_reference":"HW-60"}`
	new60 = `{"category":"installed_on","full_product_name":{"product_id":"new-on-60","name":"x"},"product_reference":"FW-new","relates_to_product_reference":"HW-60"}`
)

// Firmware installed on hardware is about that hardware alone, and has the versions of the firmware.
func TestRelationships(t *testing.T) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	f := c.Family("th")
	data := related(old60+","+new60, `{"known_affected":["old-on-60"],"known_not_affected":["new-on-60"]}`)
	a, err := Read(data)
	require.NoError(t, err)
	for _, c := range []struct {
		model, release string
		want           Status
	}{{"TH-60", "5.0.7", Affected}, {"TH-60", "5.4.2", NotAffected}, {"TH-60", "4.2.9", ""}, {"TH-80", "5.0.7", ""}} {
		got, _ := a.Status(f, c.model, c.release)
		assert.Equal(t, c.want, got, "%s %s", c.model, c.release)
	}
	assert.Equal(t, "fix: install 5.4.2 (restart: system) https://example.org/a\nworkaround: switch the web side off", a.Product(f, "TH-60", "5.0.7").Says())
	assert.Contains(t, a.Product(f, "TH-60", "5.4.2").Says(), "not affected: vulnerable code not present")
	assert.Len(t, a.Says(), 3, "each once")
	assert.Len(t, a.Families(c), 1)
}

// Relationships build on each other in any order; components of a whole are about the whole.
func TestRelationshipsOfRelationships(t *testing.T) {
	c, found := catalog.ReadDir(os.DirFS("../../demo/catalog"))
	require.Empty(t, found)
	f := c.Family("th")
	library := `{"category":"default_component_of","full_product_name":{"product_id":"lib-in-old","name":"x"},"product_reference":"LIB","relates_to_product_reference":"old-on-60"}`
	part := `{"category":"default_component_of","full_product_name":{"product_id":"new-of-80","name":"x"},"product_reference":"FW-new","relates_to_product_reference":"HW-80"}`
	data := related(library+","+part+","+old60+","+new60, `{"known_affected":["lib-in-old","new-of-80"]}`)
	a, err := Read(data)
	require.NoError(t, err)
	for _, c := range []struct {
		model, release string
		want           Status
	}{{"TH-60", "5.0.7", Affected}, {"TH-60", "5.4.2", ""}, {"TH-80", "5.4.2", Affected}, {"TH-80", "5.0.7", ""}} {
		got, _ := a.Status(f, c.model, c.release)
		assert.Equal(t, c.want, got, "%s %s", c.model, c.release)
	}
}

func TestRelationshipsThatDoNotFit(t *testing.T) {
	for relationships, want := range map[string]string{
		`{"category":"installed_on","full_product_name":{"product_id":"X"},"product_reference":"NO","relates_to_product_reference":"HW-60"}`:         `product "X" speaks of "NO", which the product tree does not have`,
		`{"category":"installed_on","full_product_name":{"product_id":"X"},"product_reference":"X","relates_to_product_reference":"HW-60"}`:          `speaks of "X"`,
		`{"category":"installed_on","full_product_name":{"product_id":"HW-80"},"product_reference":"FW-old","relates_to_product_reference":"HW-60"}`: `product "HW-80" is there already`,
		`{"category":"beside","full_product_name":{"product_id":"X"},"product_reference":"FW-old","relates_to_product_reference":"HW-60"}`:           `category "beside" of product "X" is not known`,
	} {
		data := related(relationships, `{}`)
		_, err := Read(data)
		assert.ErrorContains(t, err, want)
	}
	data := related(old60, `{"known_affected":["old-on-60"]}`) // the group names a product that no relationship makes
	_, err := Read(data)
	assert.NoError(t, err)
}
