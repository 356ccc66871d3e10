package calderpath

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"os"
	"path/filepath"

	"github.com/openconfig/gnoi/file"
	gnoios "github.com/openconfig/gnoi/os"
	gnoisystem "github.com/openconfig/gnoi/system"
	"github.com/openconfig/gnoi/types"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"

	"verimorph/simfleet/firmware"
)

// osServer takes packages and activates them (gNOI os).
type osServer struct {
	gnoios.UnimplementedOSServer
	b *Box
}

func installError(s gnoios.OS_InstallServer, kind gnoios.InstallError_Type, detail string) error {
	return s.Send(&gnoios.InstallResponse{Response: &gnoios.InstallResponse_InstallError{InstallError: &gnoios.InstallError{Type: kind, Detail: detail}}})
}

func validated(s gnoios.OS_InstallServer, version string) error {
	return s.Send(&gnoios.InstallResponse{Response: &gnoios.InstallResponse_Validated{Validated: &gnoios.Validated{Version: version}}})
}

// Install implements gnoios.OSServer.
func (o *osServer) Install(s gnoios.OS_InstallServer) error {
	first, err := s.Recv()
	if err != nil {
		return err
	}
	want := first.GetTransferRequest()
	if want == nil {
		return status.Error(codes.InvalidArgument, "what is to be transferred?")
	}
	b := o.b
	b.mu.Lock()
	there := b.packageOf(want.Version, int64(want.PackageSize)) != ""
	room := b.free()
	b.mu.Unlock()
	switch {
	case want.Version != filepath.Base(want.Version):
		return status.Error(codes.InvalidArgument, "that is no version")
	case there:
		return validated(s, want.Version)
	case want.PackageSize > uint64(room):
		return installError(s, gnoios.InstallError_TOO_LARGE, "there is no room for it")
	}
	if err := s.Send(&gnoios.InstallResponse{Response: &gnoios.InstallResponse_TransferReady{TransferReady: &gnoios.TransferReady{}}}); err != nil {
		return err
	}
	incoming := filepath.Join(b.dir, "incoming")
	if err := b.receive(s, incoming, want.PackageSize); err != nil {
		return err
	}
	return b.take(s, incoming, want.Version)
}

// receive writes what comes into a file beside the packages.
func (b *Box) receive(s gnoios.OS_InstallServer, name string, size uint64) error {
	part := filepath.Join(b.dir, "transfer.part")
	f, err := os.Create(part)
	if err != nil {
		return err
	}
	defer f.Close()
	for got := uint64(0); ; {
		r, err := s.Recv()
		if err != nil {
			return err
		}
		if r.GetTransferEnd() != nil {
			return os.Rename(part, name)
		}
		data := r.GetTransferContent()
		b.mu.Lock()
		if b.st.Faults.Hit(Damages) && len(data) > 600 {
			data[600] ^= 1
		}
		breaks := got > size/2 && b.st.Faults.Hit(BreaksStream)
		b.mu.Unlock()
		if breaks {
			return status.Error(codes.Unavailable, "the storage went away")
		}
		if _, err := f.Write(data); err != nil {
			return err
		}
		got += uint64(len(data))
		if err := s.Send(&gnoios.InstallResponse{Response: &gnoios.InstallResponse_TransferProgress{TransferProgress: &gnoios.TransferProgress{BytesReceived: got}}}); err != nil {
			return err
		}
	}
}

// packageOf is the package of a version that could be started, that of the platform first; of a size, where that is not 0: the platforms give their packages
// the same versions. The caller holds the lock.
func (b *Box) packageOf(version string, size int64) string {
	for _, model := range []string{b.st.Model, firstPlatform, secondPlatform} {
		name := packageName(model, version)
		st, err := os.Stat(filepath.Join(b.packages(), name))
		if err == nil && b.starts(name) && (size == 0 || st.Size() == size) {
			return name
		}
	}
	return ""
}

// take checks a package that has come, and gives it its name.
func (b *Box) take(s gnoios.OS_InstallServer, incoming, version string) error {
	defer func() { _ = os.Remove(incoming) }()
	data, err := os.Open(incoming)
	if err != nil {
		return err
	}
	h, err := firmware.Read(data)
	_ = data.Close()
	switch {
	case err != nil:
		return installError(s, gnoios.InstallError_INTEGRITY_FAIL, err.Error())
	case h.Version != version || len(h.Models) == 0:
		return installError(s, gnoios.InstallError_INCOMPATIBLE, "it holds "+h.Version)
	}
	name := packageName(h.Models[0], version)
	if err := os.Rename(incoming, filepath.Join(b.packages(), name)); err != nil {
		return err
	}
	b.mu.Lock()
	ok := b.starts(name)
	if ok {
		b.st.Installs++
	}
	err = b.save()
	b.mu.Unlock()
	if !ok {
		_ = os.Remove(filepath.Join(b.packages(), name))
		return installError(s, gnoios.InstallError_INCOMPATIBLE, "it is for another model")
	}
	return errors.Join(err, validated(s, version))
}

// Activate implements gnoios.OSServer.
func (o *osServer) Activate(_ context.Context, r *gnoios.ActivateRequest) (*gnoios.ActivateResponse, error) {
	b := o.b
	b.mu.Lock()
	defer b.mu.Unlock()
	name := b.packageOf(r.Version, 0)
	if name == "" {
		return &gnoios.ActivateResponse{Response: &gnoios.ActivateResponse_ActivateError{ActivateError: &gnoios.ActivateError{Type: gnoios.ActivateError_NON_EXISTENT_VERSION, Detail: "there is no " + r.Version}}}, nil
	}
	if !b.st.Faults.Hit(NotActivated) {
		b.st.Next = name
	}
	if err := b.save(); err != nil {
		return nil, err
	}
	if !r.NoReboot {
		b.restart()
	}
	return &gnoios.ActivateResponse{Response: &gnoios.ActivateResponse_ActivateOk{ActivateOk: &gnoios.ActivateOK{}}}, nil
}

// Verify implements gnoios.OSServer.
func (o *osServer) Verify(context.Context, *gnoios.VerifyRequest) (*gnoios.VerifyResponse, error) {
	o.b.mu.Lock()
	defer o.b.mu.Unlock()
	return &gnoios.VerifyResponse{Version: o.b.version(), ActivationFailMessage: o.b.st.Failed}, nil
}

// systemServer starts the box anew (gNOI system).
type systemServer struct {
	gnoisystem.UnimplementedSystemServer
	b *Box
}

// Reboot implements gnoisystem.SystemServer.
func (o *systemServer) Reboot(_ context.Context, r *gnoisystem.RebootRequest) (*gnoisystem.RebootResponse, error) {
	if r.Method != gnoisystem.RebootMethod_COLD {
		return nil, status.Error(codes.InvalidArgument, "only cold restarts are known")
	}
	o.b.mu.Lock()
	defer o.b.mu.Unlock()
	o.b.restart()
	return &gnoisystem.RebootResponse{}, nil
}

// fileServer gives its key ring out (gNOI file).
type fileServer struct {
	file.UnimplementedFileServer
	b *Box
}

// keyRing is the one file that the box gives out.
const keyRing = "/keys.store"

// Get implements file.FileServer.
func (o *fileServer) Get(r *file.GetRequest, s file.File_GetServer) error {
	if r.RemoteFile != keyRing {
		return status.Errorf(codes.NotFound, "there is no %s", r.RemoteFile)
	}
	o.b.mu.Lock()
	text := o.b.st.Keys
	o.b.mu.Unlock()
	for rest := []byte(text); len(rest) > 0; rest = rest[min(10, len(rest)):] { // small pieces, so that readers have to join them
		if err := s.Send(&file.GetResponse{Response: &file.GetResponse_Contents{Contents: rest[:min(10, len(rest))]}}); err != nil {
			return err
		}
	}
	sum := sha256.Sum256([]byte(text))
	return s.Send(&file.GetResponse{Response: &file.GetResponse_Hash{Hash: &types.HashType{Method: types.HashType_SHA256, Hash: sum[:]}}})
}

// Put implements file.FileServer.
func (o *fileServer) Put(s file.File_PutServer) error {
	var data []byte
	name := ""
	for {
		r, err := s.Recv()
		switch {
		case errors.Is(err, io.EOF):
			return status.Error(codes.DataLoss, "there was no hash")
		case err != nil:
			return err
		case r.GetOpen() != nil:
			name = r.GetOpen().RemoteFile
		case r.GetHash() != nil:
			sum := sha256.Sum256(data)
			if name != keyRing || string(sum[:]) != string(r.GetHash().Hash) {
				return status.Error(codes.InvalidArgument, "that is not taken")
			}
			o.b.mu.Lock()
			defer o.b.mu.Unlock()
			o.b.st.Keys = string(data)
			if err := o.b.save(); err != nil {
				return err
			}
			return s.SendAndClose(&file.PutResponse{})
		default:
			data = append(data, r.GetContents()...)
		}
	}
}
