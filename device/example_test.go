package device_test

import (
	"errors"
	"fmt"
	"io"

	"verimorph/device"
)

// Errors keep their cause and have a kind; callers examine these and never the text.
func ExampleFail() {
	err := fmt.Errorf("take a backup: %w", device.Fail(device.Lost, "192.0.2.7:22", "show all", "the connection was lost: %s", io.ErrUnexpectedEOF))
	fmt.Println(err)
	fmt.Println(device.KindOf(err) == device.Lost, errors.Is(err, io.ErrUnexpectedEOF))
	// Output:
	// take a backup: 192.0.2.7:22: show all: the connection was lost: unexpected EOF
	// true true
}

// What a driver lacks is refused by name.
func ExampleAs() {
	_, err := device.As[device.Licensor](struct{}{}, "add a licence")
	fmt.Println(err)
	fmt.Println(device.KindOf(err) == device.Lacking)
	// Output:
	// add a licence: its driver cannot do that; do it by hand, or describe the device in a dialect that can
	// true
}
