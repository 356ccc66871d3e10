package calderpath

import (
	"context"
	"time"

	"github.com/openconfig/gnmi/proto/gnmi"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"
)

// gnmiServer tells what the box measures.
type gnmiServer struct {
	gnmi.UnimplementedGNMIServer
	b *Box
}

// told are the values that the box has, by path.
func (o *gnmiServer) told(ps []*gnmi.Path) ([]*gnmi.Update, error) {
	o.b.mu.Lock()
	defer o.b.mu.Unlock()
	text := func(v string) *gnmi.TypedValue {
		return &gnmi.TypedValue{Value: &gnmi.TypedValue_StringVal{StringVal: v}}
	}
	leaf := func(name string, elems ...*gnmi.PathElem) *gnmi.Path {
		return &gnmi.Path{Elem: append(elems, &gnmi.PathElem{Name: name})}
	}
	var out []*gnmi.Update
	for _, p := range ps {
		if len(p.Elem) == 0 {
			return nil, status.Error(codes.InvalidArgument, "which?")
		}
		switch p.Elem[0].Name {
		case "interfaces":
			names, up := o.b.ports()
			for _, name := range names {
				at := []*gnmi.PathElem{{Name: "interfaces"}, {Name: "interface", Key: map[string]string{"name": name}}, {Name: "state"}}
				out = append(out, &gnmi.Update{Path: leaf("oper-status", at...), Val: text(map[bool]string{true: "UP", false: "DOWN"}[up[name]])})
			}
		case "system":
			at := []*gnmi.PathElem{{Name: "system"}, {Name: "state"}}
			out = append(out, &gnmi.Update{Path: leaf("hostname", at...), Val: text(o.b.spec.Name)},
				&gnmi.Update{Path: leaf("software-version", at...), Val: text(o.b.version())})
		default:
			return nil, status.Errorf(codes.NotFound, "there is no %s", p.Elem[0].Name)
		}
	}
	return out, nil
}

// Get implements gnmi.GNMIServer.
func (o *gnmiServer) Get(_ context.Context, r *gnmi.GetRequest) (*gnmi.GetResponse, error) {
	all, err := o.told(r.Path)
	if err != nil {
		return nil, err
	}
	return &gnmi.GetResponse{Notification: []*gnmi.Notification{{Timestamp: time.Now().UnixNano(), Update: all}}}, nil
}

// Subscribe implements gnmi.GNMIServer, for one look.
func (o *gnmiServer) Subscribe(s gnmi.GNMI_SubscribeServer) error {
	r, err := s.Recv()
	if err != nil {
		return err
	}
	list := r.GetSubscribe()
	if list.GetMode() != gnmi.SubscriptionList_ONCE {
		return status.Error(codes.Unimplemented, "only once")
	}
	var ps []*gnmi.Path
	for _, x := range list.Subscription {
		ps = append(ps, x.Path)
	}
	all, err := o.told(ps)
	if err != nil {
		return err
	}
	for _, u := range all {
		if err := s.Send(&gnmi.SubscribeResponse{Response: &gnmi.SubscribeResponse_Update{Update: &gnmi.Notification{Update: []*gnmi.Update{u}}}}); err != nil {
			return err
		}
	}
	return s.Send(&gnmi.SubscribeResponse{Response: &gnmi.SubscribeResponse_SyncResponse{SyncResponse: true}})
}
