package gnoi

import (
	"bytes"
	"context"
	"maps"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/openconfig/gnmi/proto/gnmi"
	"github.com/openconfig/gnoi/file"
	"github.com/openconfig/gnoi/os"
	"github.com/openconfig/gnoi/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"
	"pgregory.net/rapid"

	"verimorph/device"
)

// box is a device whose answers a test decides.
type box struct {
	os.UnimplementedOSServer
	file.UnimplementedFileServer
	install func(os.OS_InstallServer) error
	get     func(file.File_GetServer) error
	values  []*gnmi.Notification
	stream  func(gnmi.GNMI_SubscribeServer) error // nil: it ends without a word
}

func (b *box) Install(s os.OS_InstallServer) error                 { return b.install(s) }
func (b *box) Get(_ *file.GetRequest, s file.File_GetServer) error { return b.get(s) }
func (b *box) Verify(context.Context, *os.VerifyRequest) (*os.VerifyResponse, error) {
	return &os.VerifyResponse{Version: strings.Repeat("x", mostMessage+1)}, nil
}

// readings is the gNMI half of a box.
type readings struct {
	gnmi.UnimplementedGNMIServer
	b *box
}

func (r readings) Get(context.Context, *gnmi.GetRequest) (*gnmi.GetResponse, error) {
	return &gnmi.GetResponse{Notification: r.b.values}, nil
}

func (r readings) Subscribe(s gnmi.GNMI_SubscribeServer) error {
	if r.b.stream == nil {
		return nil
	}
	return r.b.stream(s)
}

func start(t *testing.T, b *box, protocol string) *Client {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := grpc.NewServer()
	os.RegisterOSServer(s, b)
	file.RegisterFileServer(s, b)
	gnmi.RegisterGNMIServer(s, readings{b: b})
	go func() { _ = s.Serve(ln) }()
	t.Cleanup(s.Stop)
	c, err := Dial(&device.Target{Address: "127.0.0.1:22", Services: map[string]string{protocol: ln.Addr().String()}, SignIns: []device.SignIn{{User: "u", Password: "p"}}}, protocol, device.Service{TLS: device.TLSOff}, nil, nil)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func ready(s os.OS_InstallServer) error {
	return s.Send(&os.InstallResponse{Response: &os.InstallResponse_TransferReady{TransferReady: &os.TransferReady{}}})
}

func fails(kind os.InstallError_Type) func(os.OS_InstallServer) error {
	return func(s os.OS_InstallServer) error {
		return s.Send(&os.InstallResponse{Response: &os.InstallResponse_InstallError{InstallError: &os.InstallError{Type: kind, Detail: "because"}}})
	}
}

func says(version string) func(os.OS_InstallServer) error {
	return func(s os.OS_InstallServer) error {
		return s.Send(&os.InstallResponse{Response: &os.InstallResponse_Validated{Validated: &os.Validated{Version: version}}})
	}
}

// drained takes all of a package and then does something.
func drained(then func(os.OS_InstallServer) error) func(os.OS_InstallServer) error {
	return func(s os.OS_InstallServer) error {
		if _, err := s.Recv(); err != nil {
			return err
		}
		if err := ready(s); err != nil {
			return err
		}
		for {
			r, err := s.Recv()
			if err != nil {
				return err
			}
			if r.GetTransferEnd() != nil {
				return then(s)
			}
		}
	}
}

// However a device takes a package, or does not: only one that says that it has the version that was named has it.
func TestPackagesThatAreNotTaken(t *testing.T) {
	for name, x := range map[string]struct {
		install func(os.OS_InstallServer) error
		kind    device.ErrorKind
		says    string
	}{
		"it is there already": {says("9"), "", ""},
		"taken":               {drained(says("9")), "", ""},
		"it turns out to be there": {func(s os.OS_InstallServer) error {
			if err := ready(s); err != nil {
				return err
			}
			for range 2 {
				if _, err := s.Recv(); err != nil {
					return err
				}
			}
			return says("9")(s)
		}, "", ""},
		"another one is there":       {says("8"), device.NotUnderstood, `has "8", not "9"`},
		"taken for another":          {drained(says("8")), device.NotUnderstood, `has "8", not "9"`},
		"too large":                  {fails(os.InstallError_TOO_LARGE), device.NoRoom, "TOO_LARGE: because"},
		"another one is under way":   {fails(os.InstallError_INSTALL_IN_PROGRESS), device.NotReady, "because"},
		"damaged":                    {drained(fails(os.InstallError_INTEGRITY_FAIL)), device.Refused, "INTEGRITY_FAIL: because"},
		"it ends without a word":     {func(os.OS_InstallServer) error { return nil }, device.Lost, "without saying that the package is valid"},
		"it ends behind the package": {drained(func(os.OS_InstallServer) error { return nil }), device.Lost, "without saying that the package is valid"},
		"refused in the middle": {func(s os.OS_InstallServer) error {
			_ = ready(s)
			_, _ = s.Recv()
			_, _ = s.Recv()
			return fails(os.InstallError_PARSE_FAIL)(s)
		}, device.Refused, "PARSE_FAIL"},
		"broken off in the middle": {func(s os.OS_InstallServer) error {
			_ = ready(s)
			_, _ = s.Recv()
			return status.Error(codes.Unavailable, "gone")
		}, device.Lost, "gone"},
		"it stands still":            {func(s os.OS_InstallServer) error { _ = ready(s); <-s.Context().Done(); return nil }, device.Silent, "no answer in time"},
		"it never gets ready":        {func(s os.OS_InstallServer) error { <-s.Context().Done(); return nil }, device.Silent, "no answer in time"},
		"it has no such call":        {func(os.OS_InstallServer) error { return status.Error(codes.Unimplemented, "no") }, device.Lacking, "does not have this call"},
		"whoever asks is not let in": {func(os.OS_InstallServer) error { return status.Error(codes.Unauthenticated, "no") }, device.SignInRefused, "not accepted"},
		"it talks instead of working": {func(s os.OS_InstallServer) error {
			_ = ready(s)
			for s.Context().Err() == nil {
				if err := s.Send(&os.InstallResponse{Response: &os.InstallResponse_SyncProgress{SyncProgress: &os.SyncProgress{PercentageTransferred: 1}}}); err != nil {
					return err
				}
				time.Sleep(time.Millisecond)
			}
			return nil
		}, device.Silent, "no answer in time"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := start(t, &box{install: x.install}, device.ByGNOI)
			lasts := time.Minute
			if x.kind == device.Silent {
				lasts = 2 * time.Second
			}
			ctx, cancel := context.WithTimeout(t.Context(), lasts)
			defer cancel()
			data := bytes.Repeat([]byte("image"), 100_000)
			err := c.InstallOS(ctx, "9", int64(len(data)), bytes.NewReader(data), func(int64) {})
			assert.Equal(t, x.kind, device.KindOf(err), "%v", err)
			if x.says != "" {
				assert.ErrorContains(t, err, x.says)
			}
		})
	}
}

// A file counts only with the hash that the device sends behind it.
func TestFilesThatAreNotWhole(t *testing.T) {
	piece := func(s file.File_GetServer, text string) error {
		return s.Send(&file.GetResponse{Response: &file.GetResponse_Contents{Contents: []byte(text)}})
	}
	for says, get := range map[string]func(file.File_GetServer) error{
		"without the hash of the file": func(s file.File_GetServer) error { return piece(s, "half") },
		"has not the SHA256 sum": func(s file.File_GetServer) error {
			_ = piece(s, "other")
			return s.Send(&file.GetResponse{Response: &file.GetResponse_Hash{Hash: &types.HashType{Method: types.HashType_SHA256, Hash: []byte("x")}}})
		},
		"is not known": func(s file.File_GetServer) error {
			return s.Send(&file.GetResponse{Response: &file.GetResponse_Hash{Hash: &types.HashType{}}})
		},
		"no such file": func(file.File_GetServer) error { return status.Error(codes.NotFound, "no such file") },
	} {
		_, err := start(t, &box{get: get}, device.ByGNOI).Fetch(t.Context(), "/x")
		assert.ErrorContains(t, err, says)
	}
	_, err := start(t, &box{}, device.ByGNOI).Call(t.Context(), "os.Verify")
	assert.Equal(t, device.NotUnderstood, device.KindOf(err), "an answer that is too large: %v", err)
}

// Values of every kind are read; one that is no JSON, or of a kind that nobody knows, is an error.
func TestValues(t *testing.T) {
	path, err := ParsePath("/a/b[k=x y][l=z]/c")
	require.NoError(t, err)
	value := func(v *gnmi.TypedValue) (string, error) {
		b := &box{values: []*gnmi.Notification{{Prefix: &gnmi.Path{Elem: path.Elem[:1]}, Update: []*gnmi.Update{{Path: &gnmi.Path{Elem: path.Elem[1:]}, Val: v}}}}}
		return start(t, b, device.ByGNMI).Call(t.Context(), "get /a")
	}
	for want, v := range map[string]*gnmi.TypedValue{
		`"value": "UP"`:   {Value: &gnmi.TypedValue_StringVal{StringVal: "UP"}},
		`"value": -4`:     {Value: &gnmi.TypedValue_IntVal{IntVal: -4}},
		`"value": 5`:      {Value: &gnmi.TypedValue_UintVal{UintVal: 5}},
		`"value": true`:   {Value: &gnmi.TypedValue_BoolVal{BoolVal: true}},
		`"value": 1.5`:    {Value: &gnmi.TypedValue_DoubleVal{DoubleVal: 1.5}},
		`"x": 1`:          {Value: &gnmi.TypedValue_JsonIetfVal{JsonIetfVal: []byte(`{"x":1}`)}},
		`"value": "YQ=="`: {Value: &gnmi.TypedValue_BytesVal{BytesVal: []byte("a")}},
		`"b"`:             {Value: &gnmi.TypedValue_LeaflistVal{LeaflistVal: &gnmi.ScalarArray{Element: []*gnmi.TypedValue{{Value: &gnmi.TypedValue_StringVal{StringVal: "b"}}}}}},
	} {
		text, err := value(v)
		require.NoError(t, err)
		assert.Contains(t, text, want)
		assert.Contains(t, text, `"path": "/a/b[k=x y][l=z]/c"`)
		assert.Contains(t, text, `"k": "x y"`)
	}
	for _, v := range []*gnmi.TypedValue{{}, {Value: &gnmi.TypedValue_JsonVal{JsonVal: []byte("{")}}} {
		_, err := value(v)
		assert.Equal(t, device.NotUnderstood, device.KindOf(err))
	}
	_, err = start(t, &box{}, device.ByGNMI).Call(t.Context(), "subscribe once /a")
	assert.Equal(t, device.NotUnderstood, device.KindOf(err), "a stream that ends without a word: %v", err)
}

// What a device says on a stream is heard from the moment on in which it has told how everything stands; that it ends is an error that says why.
func TestStreamOfChanges(t *testing.T) {
	path, err := ParsePath("/ports/port[name=p1]/state")
	require.NoError(t, err)
	value := func(text string) *gnmi.Notification {
		return &gnmi.Notification{Update: []*gnmi.Update{{Path: path, Val: &gnmi.TypedValue{Value: &gnmi.TypedValue_StringVal{StringVal: text}}}}}
	}
	tell := func(s gnmi.GNMI_SubscribeServer, n *gnmi.Notification) error {
		return s.Send(&gnmi.SubscribeResponse{Response: &gnmi.SubscribeResponse_Update{Update: n}})
	}
	for name, x := range map[string]struct {
		then func(gnmi.GNMI_SubscribeServer) error // what the stream does behind two changes
		kind device.ErrorKind
	}{
		"it ends":       {func(gnmi.GNMI_SubscribeServer) error { return nil }, device.Lost},
		"it breaks off": {func(gnmi.GNMI_SubscribeServer) error { return status.Error(codes.Unavailable, "gone") }, device.Lost},
		"it says rubbish": {func(s gnmi.GNMI_SubscribeServer) error {
			return tell(s, &gnmi.Notification{Update: []*gnmi.Update{{Path: path}}})
		}, device.NotUnderstood},
		"it has none":    {func(gnmi.GNMI_SubscribeServer) error { return status.Error(codes.Unimplemented, "no") }, device.Lacking},
		"nobody listens": {func(s gnmi.GNMI_SubscribeServer) error { <-s.Context().Done(); return nil }, device.Silent},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := start(t, &box{stream: func(s gnmi.GNMI_SubscribeServer) error {
				r, err := s.Recv()
				if err != nil {
					return err
				}
				if r.GetSubscribe().GetMode() != gnmi.SubscriptionList_STREAM || r.GetSubscribe().Subscription[0].Mode != gnmi.SubscriptionMode_ON_CHANGE {
					return status.Error(codes.InvalidArgument, "only changes")
				}
				_ = tell(s, value("UP"))
				_ = s.Send(&gnmi.SubscribeResponse{Response: &gnmi.SubscribeResponse_SyncResponse{SyncResponse: true}})
				_ = tell(s, value("DOWN"))
				_ = tell(s, &gnmi.Notification{Delete: []*gnmi.Path{path}})
				return x.then(s)
			}}, device.ByGNMI)
			ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
			defer cancel()
			var heard []string
			err := c.Subscribe(ctx, "/ports /system", func(text string) {
				if heard = append(heard, text); x.kind == device.Silent && len(heard) == 2 {
					cancel()
				}
			})
			assert.Equal(t, x.kind, device.KindOf(err), "%v", err)
			assert.Equal(t, []string{"/ports/port[name=p1]/state=DOWN", "/ports/port[name=p1]/state is gone"}, heard)
		})
	}
	err = start(t, &box{}, device.ByGNMI).Subscribe(t.Context(), "ports", func(string) {})
	assert.Equal(t, device.NotUnderstood, device.KindOf(err), "%v", err)
}

// A path that is printed is read as the same path, whatever stands in it.
func TestPathsAreReadAsPrinted(t *testing.T) {
	name := rapid.StringMatching(`[a-z/\[\]=\\ é:]{1,6}`)
	rapid.Check(t, func(t *rapid.T) {
		var elems []*gnmi.PathElem
		for range rapid.IntRange(1, 4).Draw(t, "n") {
			e := &gnmi.PathElem{Name: name.Draw(t, "name")}
			for range rapid.IntRange(0, 2).Draw(t, "keys") {
				if e.Key == nil {
					e.Key = map[string]string{}
				}
				e.Key[name.Draw(t, "key")] = name.Draw(t, "value")
			}
			elems = append(elems, e)
		}
		text := printPath(elems)
		got, err := ParsePath(text)
		if err != nil || len(got.Elem) != len(elems) {
			t.Fatal(text, err)
		}
		for i, e := range elems {
			if got.Elem[i].Name != e.Name || !maps.Equal(got.Elem[i].Key, e.Key) {
				t.Fatal(text, got)
			}
		}
	})
	for _, bad := range []string{"", "a", "//", "/a[", "/a[b", "/a[b=c", "/a[=c]", "/a[b=c]d", "/[a=b]"} {
		_, err := ParsePath(bad)
		assert.Error(t, err, bad)
	}
	p, err := ParsePath("openconfig:/a/b")
	require.NoError(t, err)
	assert.Equal(t, "openconfig", p.Origin)
}
