package main

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"verimorph/backupstore"
	"verimorph/blob"
	"verimorph/core/catalog"
	"verimorph/core/change"
	"verimorph/core/convert"
	"verimorph/device"
	"verimorph/device/cli"
	"verimorph/device/netconf"
	"verimorph/engine"
	"verimorph/imagestore"
	"verimorph/internal/catcache"
	"verimorph/planning"
	"verimorph/server"
	"verimorph/store"
	"verimorph/transfer"
	"verimorph/vault"
	"verimorph/web"
)

// An installation is the parts of the service, put together.
type installation struct {
	engine *engine.Engine
	server *server.Server
	give   *transfer.Server
	vault  *vault.Vault
	blobs  *blob.Store
	closes []func()
}

func (in *installation) close() {
	for _, f := range slices.Backward(in.closes) {
		f()
	}
}

// open puts the parts of the service together. Nothing runs yet.
func (o *options) open(ctx context.Context, st *store.Store, log *slog.Logger) (_ *installation, err error) {
	in := &installation{}
	defer func() {
		if err != nil {
			in.close()
		}
	}()
	offline, err := recipients(o.offline)
	if err != nil {
		return nil, err
	}
	v, err := vault.Open(ctx, filepath.Join(o.data, "key"), st, offline...)
	if err != nil {
		return nil, err
	}
	blobs, err := blob.Open(filepath.Join(o.data, "images"))
	if err != nil {
		return nil, err
	}
	in.vault, in.blobs = v, blobs
	backups, err := backupstore.Open(filepath.Join(o.data, "backups"), v)
	if err != nil {
		return nil, err
	}
	in.closes = append(in.closes, backups.Close)
	for name, why := range backups.Damaged() {
		log.Error("a volume of the backup store cannot be read; look with: verimorph backup check", "volume", name, "err", why)
	}
	drivers, err := drivers(o.dialects)
	if err != nil {
		return nil, err
	}
	if o.transferBase == "" {
		o.transferBase = "http://" + o.transferListen
	}
	in.give = &transfer.Server{Base: strings.TrimRight(o.transferBase, "/")}
	if o.transferTLS != "" {
		in.give.Secure = "https://" + o.transferTLS
	}
	receiver, err := transfer.Receive(transfer.ReceiverConfig{SFTP: o.receiveSFTP, FTP: o.receiveFTP, TFTP: o.receiveTFTP, Host: o.receiveHost, HostKey: filepath.Join(o.data, "receiver-host-key"), Give: in.give, Log: log})
	if err != nil {
		return nil, err
	}
	in.closes = append(in.closes, receiver.Close)
	zone, err := zoneOf(o.zone)
	if err != nil {
		return nil, err
	}
	relays, err := o.hearing.networks()
	if err != nil {
		return nil, err
	}
	collector, err := o.hearing.collector()
	if err != nil {
		return nil, err
	}
	pace := change.Pace{Factor: o.factor}
	catalogues := &catcache.Cache{Store: st}
	images, err := imagestore.New(imagestore.Config{Store: st, Blobs: blobs, Vault: v, Catalogue: catalogues.Parsed, Dir: filepath.Join(o.data, "images"), Log: log})
	if err != nil {
		return nil, err
	}
	in.engine, err = engine.New(engine.Config{Store: st, Blobs: blobs, Images: images, Backups: backups, Receiver: receiver, Vault: v, Drivers: drivers, Serve: in.give, Pace: pace, Log: log, Lease: o.lease, Zone: zone,
		Loaded: catalogues.Drivers, Relays: relays, Collector: collector,
		Catalogue: func(ctx context.Context) (*catalog.Catalogue, error) {
			c, err := catalogues.Parsed(ctx)
			return c, planning.Records(err)
		},
		Library: func(ctx context.Context) (*convert.Library, error) {
			l, err := catalogues.Library(ctx)
			return l, planning.Records(err)
		}})
	if err != nil {
		return nil, err
	}
	planner := planning.New(planning.Config{Store: st, Engine: in.engine, Blobs: blobs, Images: images, Catalogues: catalogues, Backups: backups, Vault: v, Pace: pace, Log: log})
	in.engine.Worked, in.engine.Named = planner.Worked, planner.NamedBy
	in.server = server.New(server.Config{Store: st, Engine: in.engine, Planner: planner, Blobs: blobs, Images: images, Catalogues: catalogues, Backups: backups, Vault: v, Console: web.Console(), Pace: pace, Log: log, Simulation: strings.TrimRight(o.simulation, "/")})
	return in, nil
}

// drivers are how the service speaks with devices, by name: the dialects that ship with it, those of a folder ("": none), and NETCONF.
func drivers(folder string) (map[string]device.Driver, error) {
	dialects, err := cli.ReadDialects(cli.Builtin())
	if err != nil {
		return nil, err
	}
	if folder != "" {
		more, err := cli.ReadDialects(os.DirFS(folder))
		if err != nil {
			return nil, err
		}
		for name, d := range more {
			dialects[name] = d
		}
	}
	all := cli.Drivers(dialects)
	all["netconf"] = &netconf.Driver{Name: "netconf"}
	return all, nil
}
