package engine

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"verimorph/device"
	"verimorph/device/netconf"
)

// What is loaded takes the place of what is built in, is seen at once by the process that loaded it, and is used as it was seen last while the records do not answer.
func TestLoadedDrivers(t *testing.T) {
	now := time.Now()
	builtIn, loaded := &netconf.Driver{Name: "a"}, &netconf.Driver{Name: "a"}
	reads, err := 0, error(nil)
	all := map[string]device.Driver{}
	e := &Engine{Config: Config{Now: func() time.Time { return now }, Log: slog.New(slog.DiscardHandler), Drivers: map[string]device.Driver{"a": builtIn},
		Loaded: func(context.Context) (map[string]device.Driver, error) { reads++; return all, err }}}
	assert.Same(t, builtIn, e.Driver("a"))
	all = map[string]device.Driver{"a": loaded, "b": loaded}
	assert.Same(t, builtIn, e.Driver("a"), "it is looked at again after a while")
	e.Reload()
	assert.Same(t, loaded, e.Driver("a"))
	assert.Equal(t, []string{"a", "b"}, e.DriverNames())
	assert.Nil(t, e.Driver("c"))
	assert.Equal(t, 2, reads)
	now, err, all = now.Add(driversLast), errors.New("away"), nil
	assert.Same(t, loaded, e.Driver("b"), "what was seen last counts")
	now, err = now.Add(driversLast), nil
	assert.Nil(t, e.Driver("b"), "it is gone")
	assert.Same(t, builtIn, e.Driver("a"))
}
