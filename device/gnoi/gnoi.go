// Package gnoi speaks gNOI and gNMI, over gRPC with TLS. Devices that offer them take their firmware ([Client.InstallOS]), are started anew and are asked what
// they are by calls that every maker has in common.
//
// # Calls
//
// [Client.Call] takes what a dialect file says. Of gNOI that is a service, a method and the request as JSON, such as
//
//	system.Reboot {"method": "COLD"}
//	os.Verify
//
// and of gNMI one of
//
//	get /interfaces/interface[name=*]/state/oper-status
//	set update /system/config/hostname "tern-rt1"
//	subscribe once /system/state
//
// [Client.Subscribe] tells what changes from then on.
//
// The answer is JSON, with the names that the protocol's own files give the fields.
//
// # Errors
//
// They are *device.Error: an address that does not answer is [device.Unreachable], a refused user [device.SignInRefused], a certificate that changed
// [device.HostKeyChanged], a call that the device does not have [device.Lacking], a stream that ends [device.Lost], no answer in time [device.Silent].
package gnoi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	_ "github.com/openconfig/gnoi/cert" // the services that can be called by name
	"github.com/openconfig/gnoi/file"
	_ "github.com/openconfig/gnoi/healthz"
	"github.com/openconfig/gnoi/os"
	_ "github.com/openconfig/gnoi/system"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
	"google.golang.org/protobuf/reflect/protoregistry"
	"google.golang.org/protobuf/types/dynamicpb"

	"verimorph/device"
	"verimorph/device/link"
)

// mostMessage bounds an answer, in bytes; mostAnswers how many of a stream are taken.
const (
	mostMessage = 16 << 20
	mostAnswers = 10_000
)

// callLasts is how long a call may take that is not told how long.
const callLasts = time.Minute

// A Client speaks with one device.
type Client struct {
	conn     *grpc.ClientConn
	protocol string
	address  string
	trust    *link.Trust
	login    *link.Login
	os       os.OSClient
	file     file.FileClient
}

// Dial makes a client for gnoi or gnmi; it connects with its first call. through is a device that passes the connection on; nil: none. in is what let us in
// already, nil: nothing did.
func Dial(t *device.Target, protocol string, s device.Service, through device.Through, in *device.SignIn) (*Client, error) {
	c := &Client{protocol: protocol, address: t.Endpoint(protocol, s), trust: link.NewTrust(t, protocol, s), login: link.NewLogin(t, in)}
	secured := insecure.NewCredentials()
	if c.trust.Config != nil {
		secured = credentials.NewTLS(c.trust.Config)
	}
	conn, err := grpc.NewClient("passthrough:///"+c.address, grpc.WithTransportCredentials(secured), grpc.WithDisableServiceConfig(), grpc.WithDisableRetry(),
		grpc.WithContextDialer(func(ctx context.Context, address string) (net.Conn, error) {
			return link.DialService(ctx, through, address)
		}),
		grpc.WithDefaultCallOptions(grpc.MaxCallRecvMsgSize(mostMessage)))
	if err != nil {
		return nil, device.Fail(device.Unreachable, c.address, "connect", "%s", err)
	}
	c.conn, c.os, c.file = conn, os.NewOSClient(conn), file.NewFileClient(conn)
	return c, nil
}

// Close implements device.Caller.
func (c *Client) Close() { _ = c.conn.Close() }

// Call implements device.Caller.
func (c *Client) Call(ctx context.Context, what string) (string, error) {
	if _, limited := ctx.Deadline(); !limited {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, callLasts)
		defer cancel()
	}
	if c.protocol == device.ByGNMI {
		return c.callGNMI(ctx, what)
	}
	name, request, _ := strings.Cut(strings.TrimSpace(what), " ")
	m, err := method(name)
	if err != nil {
		return "", device.Fail(device.NotUnderstood, c.address, what, "%s", err)
	}
	in := dynamicpb.NewMessage(m.Input())
	if request = strings.TrimSpace(request); request != "" {
		if err := protojson.Unmarshal([]byte(request), in); err != nil {
			return "", device.Fail(device.NotUnderstood, c.address, name, "the request is none: %s", err)
		}
	}
	var out []proto.Message
	err = c.signedIn(ctx, name, func(ctx context.Context) error {
		out, err = c.invoke(ctx, m, in)
		return err
	})
	if err != nil {
		return "", err
	}
	if !m.IsStreamingServer() {
		return c.print(name, out[0])
	}
	var all strings.Builder // a line each
	for _, o := range out {
		text, err := c.print(name, o)
		if err != nil {
			return "", err
		}
		all.WriteString(text)
	}
	return all.String(), nil
}

// method finds a method by the name of its service's folder and its own, as in os.Verify.
func method(name string) (protoreflect.MethodDescriptor, error) {
	folder, method, _ := strings.Cut(name, ".")
	var found protoreflect.MethodDescriptor
	var known []string
	protoregistry.GlobalFiles.RangeFiles(func(f protoreflect.FileDescriptor) bool {
		pkg, ok := strings.CutPrefix(string(f.Package()), "gnoi.")
		for i := range f.Services().Len() {
			for k := range f.Services().Get(i).Methods().Len() {
				m := f.Services().Get(i).Methods().Get(k)
				switch {
				case !ok || m.IsStreamingClient():
				case pkg == folder && string(m.Name()) == method:
					found = m
				case pkg == folder:
					known = append(known, string(m.Name()))
				}
			}
		}
		return found == nil
	})
	switch {
	case found != nil:
		return found, nil
	case len(known) > 0:
		return nil, fmt.Errorf("%s has no call %q that is one question; it has %s", folder, method, strings.Join(known, ", "))
	}
	return nil, fmt.Errorf("gNOI has no service %q here; there is os, system, file, healthz and certificate", folder)
}

// invoke makes a call, of which the answer is one or a stream.
func (c *Client) invoke(ctx context.Context, m protoreflect.MethodDescriptor, in proto.Message) (out []proto.Message, err error) {
	path := fmt.Sprintf("/%s/%s", m.Parent().FullName(), m.Name())
	if !m.IsStreamingServer() {
		answer := dynamicpb.NewMessage(m.Output())
		return []proto.Message{answer}, c.conn.Invoke(ctx, path, in, answer)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s, err := c.conn.NewStream(ctx, &grpc.StreamDesc{ServerStreams: true}, path)
	if err != nil {
		return nil, err
	}
	if err := s.SendMsg(in); err != nil {
		return nil, err
	}
	if err := s.CloseSend(); err != nil {
		return nil, err
	}
	for {
		answer := dynamicpb.NewMessage(m.Output())
		switch err := s.RecvMsg(answer); {
		case isEnd(err):
			return out, nil
		case err != nil:
			return nil, err
		case len(out) == mostAnswers:
			return nil, status.Errorf(codes.ResourceExhausted, "more than %d answers", mostAnswers)
		}
		out = append(out, answer)
	}
}

// signedIn does f with a password, and with the next one when that is refused. Errors become those of a device.
func (c *Client) signedIn(ctx context.Context, doing string, f func(context.Context) error) error {
	return c.login.Do(doing, func(in device.SignIn) (bool, error) {
		err := f(metadata.AppendToOutgoingContext(ctx, "username", in.User, "password", in.Password))
		return status.Code(err) == codes.Unauthenticated, c.failed(ctx, err, doing)
	})
}

// failed is an error of gRPC as one of the device; nil stays.
func (c *Client) failed(ctx context.Context, err error, doing string) error {
	if err == nil {
		return nil
	}
	if device.KindOf(err) != "" {
		return err
	}
	if changed := c.trust.Changed(c.address, doing); changed != nil {
		return changed
	}
	s := status.Convert(err)
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) {
		s = status.FromContextError(err)
	}
	said := func(kind device.ErrorKind) error {
		return device.Fail(kind, c.address, doing, "the device says: %s", s.Message())
	}
	switch s.Code() {
	case codes.Unauthenticated:
		return device.Fail(device.SignInRefused, c.address, doing, "the user or the password is not accepted")
	case codes.Unimplemented:
		return device.Fail(device.Lacking, c.address, doing, "the device does not have this call: %s", s.Message())
	case codes.DeadlineExceeded, codes.Canceled:
		if ctx.Err() != nil || s.Code() == codes.DeadlineExceeded {
			return device.Fail(device.Silent, c.address, doing, "no answer in time")
		}
		return device.Fail(device.Lost, c.address, doing, "the connection ended")
	case codes.Unavailable:
		if text := s.Message(); strings.Contains(text, "nothing answers there") || strings.Contains(text,
			"connection refused") || strings.Contains(text, "authentication handshake") || strings.Contains(text, "error reading server preface") {
			return device.Fail(device.Unreachable, c.address, doing, "%s", plainly(text))
		}
		return device.Fail(device.Lost, c.address, doing, "the connection ended: %s", plainly(s.Message()))
	case codes.ResourceExhausted:
		return device.Fail(device.NotUnderstood, c.address, doing, "the answer is larger than %d MiB, or has more than %d parts", mostMessage>>20, mostAnswers)
	case codes.Internal, codes.Unknown, codes.DataLoss:
		return device.Fail(device.NotUnderstood, c.address, doing, "%s", s.Message())
	case codes.Aborted:
		return said(device.NotReady)
	}
	return said(device.Refused)
}

// atDeadline is how near its deadline a stream counts as ended by it. A device hears the deadline with the call, and its clock may be the first to
// reach it (gRPC over HTTP/2, header grpc-timeout).
const atDeadline = 250 * time.Millisecond

// ended is the error of a stream that the device ended before it said what it should.
func (c *Client) ended(ctx context.Context, doing, what string) error {
	if d, has := ctx.Deadline(); has && time.Until(d) < atDeadline {
		return device.Fail(device.Silent, c.address, doing, "no answer in time")
	}
	return device.Fail(device.Lost, c.address, doing, "%s", what)
}

// plainly is what a gRPC error says, without what is about gRPC.
func plainly(text string) string {
	for _, noise := range []string{"connection error: ", "desc = ", "transport: ", `"`} {
		text = strings.ReplaceAll(text, noise, "")
	}
	return text
}

// print writes an answer as JSON, indented in one way only.
func (c *Client) print(doing string, m proto.Message) (string, error) {
	data, err := protojson.MarshalOptions{UseProtoNames: true, EmitUnpopulated: true}.Marshal(m)
	if err != nil {
		return "", device.Fail(device.NotUnderstood, c.address, doing, "the answer cannot be read: %s", err)
	}
	var out bytes.Buffer
	if err := json.Indent(&out, data, "", "  "); err != nil {
		return "", device.Fail(device.NotUnderstood, c.address, doing, "the answer cannot be read: %s", err)
	}
	return out.String() + "\n", nil
}
