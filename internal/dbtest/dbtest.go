// Package dbtest gives tests a database of their own in a PostgreSQL cluster that lives as long as the test binary.
package dbtest

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"verimorph/internal/postgres"
)

var (
	cluster *postgres.Cluster
	number  atomic.Int32
)

// Main runs a package's tests with a cluster: func TestMain(m *testing.M) { os.Exit(dbtest.Main(m)) }.
func Main(m *testing.M) int {
	dir, err := os.MkdirTemp("", "verimorph-db-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	_ = os.Chmod(dir, 0o755) // the database's user has to get through
	if cluster, err = postgres.Start(context.Background(), filepath.Join(dir, "postgres"), 0, io.Discard, "fsync=off"); err != nil {
		panic(err)
	}
	defer cluster.Stop()
	return m.Run()
}

// New makes an empty database and returns its address.
func New(t testing.TB) string {
	url, err := cluster.NewDatabase(t.Context(), fmt.Sprintf("test%d", number.Add(1)))
	if err != nil {
		t.Fatal(err)
	}
	return url
}
