package gnoi

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/openconfig/gnoi/os"

	"verimorph/device"
)

func isEnd(err error) bool { return errors.Is(err, io.EOF) }

// aliveEvery is how often whoever waits for a device hears that it is waited for.
const aliveEvery = 2 * time.Second

// chunk is how many bytes of a file go in one message.
const chunk = 64 << 10

// InstallOS hands a device a package of its operating system (gNOI os.Install). The device checks it; what it says it has got must be the
// version that was named. sent hears how many bytes are out. A device that has that version already takes nothing.
func (c *Client) InstallOS(ctx context.Context, version string, size int64, content io.Reader, sent func(int64)) error {
	doing := "os.Install " + version
	return c.signedIn(ctx, doing, func(ctx context.Context) error {
		ctx, cancel := context.WithCancel(ctx) // its end breaks the stream off, wherever it is
		defer cancel()
		s, err := c.os.Install(ctx)
		if err != nil {
			return err
		}
		i := &installing{c: c, s: s, doing: doing, version: version, said: make(chan *os.InstallResponse), ended: make(chan error, 1)}
		go i.listen(ctx)
		if err := s.Send(&os.InstallRequest{Request: &os.InstallRequest_TransferRequest{TransferRequest: &os.TransferRequest{Version: version,
			PackageSize: uint64(size)}}}); err != nil && !isEnd(err) {
			return err
		}
		i.alive = func() {}
		ready, err := i.await(ctx, true)
		if err != nil || !ready {
			return err
		}
		if over, err := i.send(ctx, content, size, sent); err != nil || over {
			return err
		}
		i.alive = func() { sent(size) } // a device may check for minutes what it has got, and say nothing meanwhile
		_, err = i.await(ctx, false)
		return err
	})
}

// HoldsOS asks a device whether it holds a version of its operating system whole: whoever has it takes no package of it (gNOI os.Install).
// Nothing is transferred.
func (c *Client) HoldsOS(ctx context.Context, version string) (holds bool, err error) {
	doing := "os.Install " + version
	err = c.signedIn(ctx, doing, func(ctx context.Context) error {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		s, err := c.os.Install(ctx)
		if err != nil {
			return err
		}
		i := &installing{c: c, s: s, doing: doing, version: version, alive: func() {}, said: make(chan *os.InstallResponse), ended: make(chan error, 1)}
		go i.listen(ctx)
		if err := s.Send(&os.InstallRequest{Request: &os.InstallRequest_TransferRequest{TransferRequest: &os.TransferRequest{Version: version}}}); err != nil && !isEnd(err) {
			return err
		}
		wanted, err := i.await(ctx, true)
		holds = err == nil && !wanted
		return err
	})
	return holds, err
}

// installing is the handing over of one package.
type installing struct {
	c       *Client
	s       os.OS_InstallClient
	doing   string
	version string
	alive   func() // called every few seconds while the device is waited for
	said    chan *os.InstallResponse
	ended   chan error
}

// listen hears what the device says, until the stream ends.
func (i *installing) listen(ctx context.Context) {
	for {
		r, err := i.s.Recv()
		if err != nil {
			i.ended <- err
			return
		}
		select {
		case i.said <- r:
		case <-ctx.Done():
			i.ended <- ctx.Err()
			return
		}
	}
}

// await waits until the device is ready for the package, or with ready false until it has checked it. It reports whether the package is wanted.
func (i *installing) await(ctx context.Context, ready bool) (wanted bool, err error) {
	tick := time.NewTicker(aliveEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			i.alive()
		case r := <-i.said:
			if _, is := r.Response.(*os.InstallResponse_TransferReady); is && ready {
				return true, nil
			}
			if over, err := i.over(r); over || err != nil {
				return false, err
			}
		case err := <-i.ended:
			if isEnd(err) {
				err = i.c.ended(ctx, i.doing, "the device ended the transfer without saying that the package is valid")
			}
			return false, err
		case <-ctx.Done():
			return false, ctx.Err()
		}
	}
}

// over reports whether the device says that it has the package. Its refusal, and that it has another one, are errors.
func (i *installing) over(r *os.InstallResponse) (bool, error) {
	switch x := r.Response.(type) {
	case *os.InstallResponse_Validated:
		if x.Validated.Version != i.version {
			return false, device.Fail(device.NotUnderstood, i.c.address, i.doing, "the device says it has %q, not %q", x.Validated.Version, i.version)
		}
		return true, nil
	case *os.InstallResponse_InstallError:
		return false, i.c.refusal(i.doing, x.InstallError)
	}
	return false, nil
}

// send sends the package. What the device says meanwhile about how far it is is passed on; its refusal ends it, and so does that it has the package
// already: then over is true.
func (i *installing) send(ctx context.Context, content io.Reader, size int64, sent func(int64)) (over bool, err error) {
	buf := make([]byte, chunk)
	for done := int64(0); ; {
		n, err := io.ReadFull(content, buf)
		if n > 0 {
			if e := i.s.Send(&os.InstallRequest{Request: &os.InstallRequest_TransferContent{TransferContent: buf[:n]}}); e != nil {
				return i.why(ctx, e)
			}
			done += int64(n)
			sent(done)
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			if done != size {
				return false, device.Fail(device.NotUnderstood, i.c.address, i.doing, "the image has %d bytes here, not %d", done, size)
			}
			break
		}
		if err != nil {
			return false, fmt.Errorf("the image cannot be read here: %w", err)
		}
		if over, err := i.heard(); over || err != nil {
			return over, err
		}
	}
	if err := i.s.Send(&os.InstallRequest{Request: &os.InstallRequest_TransferEnd{TransferEnd: &os.TransferEnd{}}}); err != nil {
		return i.why(ctx, err)
	}
	return false, i.s.CloseSend()
}

// heard is what the device has said meanwhile.
func (i *installing) heard() (over bool, err error) {
	for {
		select {
		case r := <-i.said:
			if over, err := i.over(r); over || err != nil {
				return over, err
			}
		default:
			return false, nil
		}
	}
}

// why is why nothing could be sent any more: that the device has the package, what it said last, or how the stream ended.
func (i *installing) why(ctx context.Context, err error) (over bool, _ error) {
	if !isEnd(err) {
		return false, err
	}
	_, err = i.await(ctx, false)
	return err == nil, err
}

// refusal is what an error of the installation means.
func (c *Client) refusal(doing string, e *os.InstallError) error {
	kind := device.Refused
	switch e.Type {
	case os.InstallError_TOO_LARGE:
		kind = device.NoRoom
	case os.InstallError_INSTALL_IN_PROGRESS:
		kind = device.NotReady
	}
	return device.Fail(kind, c.address, doing, "the device says: %s: %s", e.Type, e.Detail)
}
