// Command verimorphd is the Verimorph service.
package main

import (
	"context"
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata" // zones must have names on any machine

	"filippo.io/age"

	"verimorph/engine"
	"verimorph/server"
	"verimorph/store"
)

const usage = `verimorphd is the Verimorph service: it carries firmware changes out and serves the API and the console.

  verimorphd [flags]                      run until interrupted
  verimorphd [flags] new-password USER    give a user a new random password and print it
  verimorphd [flags] new-user USER        add a user with a random password and print it

Every flag can be given as an environment variable as well: -database is VERIMORPH_DATABASE, -log-level is
VERIMORPH_LOG_LEVEL, and so on. A flag on the command line wins over the environment, which wins over the default.

Exit codes: 0 ended in order, 2 wrong use, 3 could not start or go on.

`

type options struct {
	listen, transferListen, transferBase   string
	transferTLS, transferCert, transferKey string
	database                               string
	databaseWait                           time.Duration
	data, dialects, firstUser, logLevel    string
	factor                                 float64
	lease                                  time.Duration
	offline                                string
	receiveSFTP, receiveFTP, receiveTFTP   string
	receiveHost                            string
	simulation, zone                       string
	hearing                                hearing
	bootstrap                              bootstrapping
}

func main() {
	var o options
	fs := flag.NewFlagSet("verimorphd", flag.ContinueOnError)
	fs.StringVar(&o.listen, "listen", "127.0.0.1:8420", "`address` of the API and the console")
	fs.StringVar(&o.transferListen, "transfer-listen", "127.0.0.1:8421", "`address` where devices fetch images")
	fs.StringVar(&o.transferTLS, "transfer-tls-listen", "", "`address` where devices fetch images over HTTPS; empty: not at all")
	fs.StringVar(&o.transferCert, "transfer-cert", "", "`file` with the certificate for that, PEM, under whose name devices reach it")
	fs.StringVar(&o.transferKey, "transfer-key", "", "`file` with its key, PEM")
	fs.StringVar(&o.transferBase, "transfer-base", "", "`URL` under which devices reach -transfer-listen; by default http:// and that address")
	fs.StringVar(&o.database, "database", "", "PostgreSQL `URL`; also read from VERIMORPH_DATABASE_URL")
	fs.DurationVar(&o.databaseWait, "database-wait", 30*time.Second, "how long to wait for the database at start")
	fs.StringVar(&o.data, "data", ".data/verimorphd", "`folder` for images, backups and the key")
	fs.StringVar(&o.dialects, "dialects", "", "`folder` with further dialects")
	fs.StringVar(&o.firstUser, "first-user", "engineer", "`name` of the user made at the first start")
	fs.StringVar(&o.logLevel, "log-level", "info", "debug, info, warn or error")
	fs.Float64Var(&o.factor, "time-factor", 1, "how many times faster than real the devices are; above 1 only with a simulated fleet")
	fs.DurationVar(&o.lease, "lease", engine.DefaultLease, "how long a worker that went silent keeps its device; a change whose service died goes on a little later")
	fs.StringVar(&o.offline, "offline-recipient", "", "`age1...`, more than one with commas: who can read backups beside this installation, with a key that is kept offline")
	fs.StringVar(&o.receiveSFTP, "receive-sftp", "", "`address` where devices send parts of backups over SFTP; empty: not at all")
	fs.StringVar(&o.receiveFTP, "receive-ftp", "", "`address` for FTP")
	fs.StringVar(&o.receiveTFTP, "receive-tftp", "", "`address` for TFTP (UDP)")
	fs.StringVar(&o.receiveHost, "receive-host", "", "`host` under which devices reach these; by default that of the addresses")
	fs.StringVar(&o.zone, "zone", "", "time zone (IANA `name`) in which windows, times and clocks are told everywhere; by default that of this machine, or UTC")
	fs.StringVar(&o.simulation, "simulation", "", "`URL` of a simulated fleet's control, for the console's demo page; empty: there is none")
	o.hearing.flags(fs)
	o.bootstrap.flags(fs)
	fs.Usage = func() { fmt.Fprint(fs.Output(), usage); fs.PrintDefaults() }
	if err := fromEnvironment(fs); err != nil {
		fmt.Fprintln(os.Stderr, "verimorphd:", err)
		os.Exit(2)
	}
	if err := fs.Parse(os.Args[1:]); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			os.Exit(0)
		}
		os.Exit(2)
	}
	if o.database == "" {
		o.database = os.Getenv("VERIMORPH_DATABASE_URL")
	}
	tuneMemory()
	if o.database == "" || o.factor <= 0 || o.lease < time.Second || fs.NArg() != 0 && (fs.NArg() != 2 || fs.Arg(0) != "new-password" && fs.Arg(0) != "new-user") {
		fmt.Fprintln(os.Stderr, "verimorphd: -database is needed, -time-factor must be above 0, -lease at least 1s, and the only commands are: new-password USER and new-user USER")
		os.Exit(2)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := o.run(ctx, fs.Arg(0), fs.Arg(1))
	if err != nil {
		fmt.Fprintln(os.Stderr, "verimorphd:", err)
		os.Exit(3)
	}
}

// fromEnvironment sets flags from VERIMORPH_ variables, before the command line is read.
func fromEnvironment(fs *flag.FlagSet) (err error) {
	fs.VisitAll(func(f *flag.Flag) {
		name := "VERIMORPH_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if v, ok := os.LookupEnv(name); ok && err == nil {
			if e := fs.Set(f.Name, v); e != nil {
				err = fmt.Errorf("environment variable %s: %w", name, e)
			}
		}
	})
	return err
}

func (o *options) run(ctx context.Context, command, name string) error {
	var level slog.Level
	if err := level.UnmarshalText([]byte(o.logLevel)); err != nil {
		return fmt.Errorf("-log-level %q is not known", o.logLevel)
	}
	log := slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	st, err := store.Open(ctx, o.database, o.databaseWait, func(err error) { log.Warn("waiting for the database", "err", err) })
	if err != nil {
		return fmt.Errorf("%w\nIs PostgreSQL running, and is the address right? It is given with -database or VERIMORPH_DATABASE_URL", err)
	}
	defer st.Close()
	if name != "" {
		return setPassword(ctx, st, command, name)
	}
	in, err := o.open(ctx, st, log)
	if err != nil {
		return err
	}
	defer in.close()
	password, err := st.EnsureFirstUser(ctx, o.firstUser)
	if err != nil {
		return err
	}
	if password != "" {
		printFirst(os.Stdout, o.firstUser, password)
	}
	ears, err := o.hearing.listen(ctx, in.engine, log)
	in.closes = append(in.closes, ears...)
	if err != nil {
		return err
	}
	done, err := o.bootstrap.serve(ctx, st, in.vault, in.blobs, log)
	if err != nil {
		return fmt.Errorf("-bootstrap-listen: %w", err)
	}
	in.closes = append(in.closes, done)
	return serve(ctx, log, in.engine, o, in.give, in.server)
}

// setPassword gives a user a new password, or adds a user, and prints the password.
func setPassword(ctx context.Context, st *store.Store, command, name string) error {
	set := st.SetPassword
	if command == "new-user" {
		set = st.AddUser
	}
	password, err := set(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("there is no user %q", name)
	}
	if _, taken := store.Conflict(err); taken {
		return fmt.Errorf("there is a user %q already", name)
	}
	if err == nil {
		fmt.Println(password)
	}
	return err
}

// zoneOf is the time zone of the installation. It has to have a name that client and console know as well.
func zoneOf(name string) (*time.Location, error) {
	if name != "" {
		zone, err := time.LoadLocation(name)
		if err != nil {
			return nil, fmt.Errorf("-zone %q is no time zone; give a name such as UTC or Europe/Oslo", name)
		}
		return zone, nil
	}
	for _, file := range []string{"/etc/localtime"} {
		target, err := filepath.EvalSymlinks(file)
		if err != nil {
			continue
		}
		if _, name, ok := strings.Cut(target, "zoneinfo/"); ok {
			if zone, err := time.LoadLocation(name); err == nil {
				return zone, nil
			}
		}
	}
	return time.UTC, nil
}

// recipients reads who else can open backups.
func recipients(list string) (out []age.Recipient, err error) {
	for _, text := range strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' }) {
		one, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, fmt.Errorf("-offline-recipient %q is no age recipient; make a key with age-keygen and give its public half, which begins with age1", text)
		}
		out = append(out, one)
	}
	return out, nil
}

func printFirst(w io.Writer, user, password string) {
	fmt.Fprintf(w, "First start. Sign in as: %s\nPassword, shown this once: %s\n", user, password)
}

// listenTLS listens where devices fetch images over HTTPS; nil where they do not.
func (o *options) listenTLS() (net.Listener, error) {
	if o.transferTLS == "" {
		return nil, nil
	}
	pair, err := tls.LoadX509KeyPair(o.transferCert, o.transferKey)
	if err != nil {
		return nil, fmt.Errorf("-transfer-cert and -transfer-key: %w", err)
	}
	return tls.Listen("tcp", o.transferTLS, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
}

// serve answers until the context ends, then ends in order: no new calls, watchers sent away, work interrupted at once.
// Running changes stay running in the records and go on at the next start.
func serve(ctx context.Context, log *slog.Logger, e *engine.Engine, o *options, give http.Handler, s *server.Server) error {
	api, err := net.Listen("tcp", o.listen)
	if err != nil {
		return err
	}
	files, err := net.Listen("tcp", o.transferListen)
	if err != nil {
		return err
	}
	secure, err := o.listenTLS()
	if err != nil {
		return err
	}
	if err := e.Start(ctx); err != nil {
		return err
	}
	go s.Run(ctx)
	apiServer := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second}
	fileServer := &http.Server{Handler: give, ReadHeaderTimeout: 10 * time.Second}
	failed := make(chan error, 3)
	go func() { failed <- apiServer.Serve(api) }()
	go func() { failed <- fileServer.Serve(files) }()
	if secure != nil {
		go func() { failed <- fileServer.Serve(secure) }()
	}
	log.Info("ready", "listen", o.listen, "transfer", o.transferListen, "time-factor", o.factor)
	fmt.Printf("Verimorph answers on http://%s\n", o.listen)
	select {
	case <-ctx.Done():
		err = nil
	case err = <-failed:
	}
	log.Info("shutting down")
	end, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return errors.Join(err, e.Stop(end), apiServer.Shutdown(end), fileServer.Close())
}
