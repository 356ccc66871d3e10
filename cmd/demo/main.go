// Command demo runs the demo: its own PostgreSQL (or the one VERIMORPH_DATABASE_URL names), the simulated fleet and
// the service, with the demo data loaded. It runs in the foreground until interrupted, and starts the service again
// when it is killed.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"verimorph/internal/postgres"
)

const (
	dataDir   = ".data"
	stateDir  = dataDir + "/demo"
	pidFile   = stateDir + "/pid"
	signIn    = stateDir + "/sign-in"
	session   = stateDir + "/session.json"
	service   = "http://127.0.0.1:8420"
	firstUser = "engineer"
)

// factor is how much faster than real the demo's devices are; VERIMORPH_TIME_FACTOR changes it.
func factor() string {
	if f := os.Getenv("VERIMORPH_TIME_FACTOR"); f != "" {
		return f
	}
	return "20"
}

func main() {
	runtime.LockOSThread() // children die with the thread that starts them
	var err error
	switch {
	case len(os.Args) == 2 && os.Args[1] == "start":
		err = start()
	case len(os.Args) == 2 && os.Args[1] == "stop":
		err = stop()
	default:
		fmt.Fprintln(os.Stderr, "usage: demo start | stop")
		os.Exit(2)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(3)
	}
}

// running returns the process of a demo that runs from this folder, or 0.
func running() int {
	f, err := os.OpenFile(pidFile, os.O_RDWR, 0)
	if err != nil {
		return 0
	}
	defer f.Close()
	if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
		return 0 // nobody holds it: left over
	}
	b, _ := io.ReadAll(f)
	pid, _ := strconv.Atoi(strings.TrimSpace(string(b)))
	return pid
}

func stop() error {
	pid := running()
	if pid == 0 {
		fmt.Println("The demo is not running.")
		return nil
	}
	if err := syscall.Kill(pid, syscall.SIGTERM); err != nil {
		return err
	}
	for range 300 {
		if running() == 0 {
			fmt.Println("The demo has stopped. Its data stays in .data; start it again with: make demo")
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("process %d does not end", pid)
}

func start() error {
	if pid := running(); pid != 0 {
		fmt.Printf("The demo runs already (process %d).\n\n", pid)
		return banner()
	}
	// The database's user has to get through .data; what is private in it guards itself.
	if err := errors.Join(os.MkdirAll(dataDir, 0o755), os.MkdirAll(stateDir, 0o700)); err != nil {
		return err
	}
	lock, err := os.OpenFile(pidFile, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return errors.New("another demo is starting from this folder")
	}
	_ = lock.Truncate(0)
	if _, err := fmt.Fprintln(lock, os.Getpid()); err != nil {
		return err
	}
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer cancel()
	return run(ctx)
}

func run(ctx context.Context) error {
	if err := portsFree(); err != nil {
		return err
	}
	url := os.Getenv("VERIMORPH_DATABASE_URL")
	if url == "" {
		fmt.Println("Starting PostgreSQL ...")
		log, err := os.OpenFile(stateDir+"/postgres.log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		defer log.Close()
		c, err := postgres.Start(ctx, dataDir+"/postgres", 0, log)
		if err != nil {
			return fmt.Errorf("%w (log: %s)", err, log.Name())
		}
		defer c.Stop()
		url = c.URL
		if real, err := os.Readlink(dataDir + "/postgres"); err == nil {
			fmt.Printf("Its files are in %s: the user who runs it cannot reach this folder.\n", real)
		}
	}
	fmt.Println("Making firmware images ...")
	for _, folder := range []string{"demo/catalog", practice + "catalog"} {
		if err := output(exec.CommandContext(ctx, "bin/simfleet", "images", "-catalogue", folder, "-out", dataDir+"/images")); err != nil {
			return err
		}
	}
	fmt.Println("Starting the simulated fleet and the service ...")
	fleet, err := launch("simfleet", nil, "bin/simfleet", "run", "-factor", factor(), "-site", siteAddress, "-licences", licencesAddress)
	if err != nil {
		return err
	}
	defer fleet.stop()
	daemon := func() (*child, error) {
		return launch("verimorphd", []string{"VERIMORPH_DATABASE_URL=" + url}, "bin/verimorphd", "-time-factor", factor(), "-first-user", firstUser, "-simulation", "http://127.0.0.1:8425", "-bootstrap-listen", "127.0.0.1:8426",
			"-receive-sftp", "127.0.0.1:8430", "-receive-ftp", "127.0.0.1:8431", "-receive-tftp", "127.0.0.1:8432")
	}
	d, err := daemon()
	if err != nil {
		return err
	}
	defer func() { d.stop() }()
	if err := await(ctx, d); err != nil {
		return err
	}
	if err := load(ctx, url); err != nil {
		return err
	}
	if err := banner(); err != nil {
		return err
	}
	fmt.Println("\nCtrl-C, or make demo-stop elsewhere, stops all of it.")
	for {
		select {
		case <-ctx.Done():
			fmt.Println("\nStopping ...")
			return nil
		case <-fleet.ended:
			return fmt.Errorf("the simulated fleet has ended; see %s", fleet.log)
		case <-d.ended:
			fmt.Println("The service was ended from outside; starting it again.")
			time.Sleep(time.Second)
			if d, err = daemon(); err != nil {
				return err
			}
		}
	}
}

func portsFree() error {
	for _, url := range []string{service + "/healthz", "http://127.0.0.1:8421/", "http://127.0.0.1:8425/devices"} {
		if resp, err := http.Get(url); err == nil {
			_ = resp.Body.Close()
			return fmt.Errorf("something answers on %s already; is a demo running from another folder?", url)
		}
	}
	return nil
}

// child is a process of the demo; its output goes to a log file.
type child struct {
	cmd   *exec.Cmd
	log   string
	ended chan struct{}
}

func launch(name string, env []string, args ...string) (*child, error) {
	c := &child{cmd: exec.Command(args[0], args[1:]...), log: filepath.Join(stateDir, name+".log"), ended: make(chan struct{})}
	log, err := os.OpenFile(c.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	c.cmd.Env = append(os.Environ(), env...)
	c.cmd.Stderr = log
	c.cmd.Stdout = &firstSignIn{log: log}
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := c.cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		_ = c.cmd.Wait()
		_ = log.Close()
		close(c.ended)
	}()
	return c, nil
}

func (c *child) stop() {
	_ = c.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-c.ended:
	case <-time.After(15 * time.Second):
		_ = c.cmd.Process.Kill()
		<-c.ended
	}
}

// firstSignIn keeps the password that the service prints once in a private file, and everything else in the log.
type firstSignIn struct {
	log  io.Writer
	text bytes.Buffer
}

func (f *firstSignIn) Write(p []byte) (int, error) {
	f.text.Write(p)
	for {
		line, err := f.text.ReadString('\n')
		if err != nil {
			f.text.WriteString(line)
			return len(p), nil
		}
		if _, password, ok := strings.Cut(line, "Password, shown this once: "); ok {
			if err := os.WriteFile(signIn, []byte(strings.TrimSpace(password)), 0o600); err != nil {
				return 0, err
			}
			line = "Password kept in " + signIn + "\n"
		}
		if _, err := io.WriteString(f.log, line); err != nil {
			return 0, err
		}
	}
}

func await(ctx context.Context, d *child) error {
	for range 600 {
		if resp, err := http.Get(service + "/readyz"); err == nil {
			_ = resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-d.ended:
			log, _ := os.ReadFile(d.log)
			return fmt.Errorf("the service ended at once:\n%s", log[max(0, len(log)-2000):])
		case <-time.After(100 * time.Millisecond):
		}
	}
	return errors.New("the service does not get ready")
}

// load signs the client in and puts the demo data into the service. What is there already stays.
func load(ctx context.Context, databaseURL string) error {
	password, err := os.ReadFile(signIn)
	if err != nil {
		// The records are older than this folder: nobody knows the password any more, so make a new one.
		cmd := exec.CommandContext(ctx, "bin/verimorphd", "new-password", firstUser)
		cmd.Env = append(os.Environ(), "VERIMORPH_DATABASE_URL="+databaseURL)
		if password, err = cmd.Output(); err != nil {
			return fmt.Errorf("there is no sign-in for this database: %w", err)
		}
		password = bytes.TrimSpace(password)
		if err := os.WriteFile(signIn, password, 0o600); err != nil {
			return err
		}
	}
	if err := client(ctx, string(password)+"\n", "sign-in", firstUser, "-server", service); err != nil {
		return err
	}
	fmt.Println("Loading catalogue, images and devices ...")
	// The box with named copies is one of those on which dialects are practised: it comes by its files alone.
	for _, files := range []string{"demo/catalog", practice + "dialects/fernhollow-5.yaml", practice + "catalog"} {
		if err := client(ctx, "", "catalogue", "load", files); err != nil {
			return err
		}
	}
	if err := client(ctx, "", "template", "put", "demo/templates/point.tpl"); err != nil {
		return err
	}
	if err := loadServices(ctx); err != nil {
		return err
	}
	if err := loadImages(ctx); err != nil {
		return err
	}
	notes, _ := filepath.Glob("demo/advisories/*.json")
	if err := client(ctx, "", append([]string{"advisory", "import"}, notes...)...); err != nil {
		return err
	}
	if err := loadMakers(ctx); err != nil {
		return err
	}
	return loadDevices(ctx)
}

// loadMakers says whose devices may call, and gets the voucher for the one that does.
func loadMakers(ctx context.Context) error {
	var b struct {
		Owner  string
		Makers []string
	}
	if err := clientJSON(ctx, &b, "bootstrap", "list"); err != nil || len(b.Makers) > 0 {
		return err
	}
	state := dataDir + "/simfleet"
	maker, err := exec.CommandContext(ctx, "bin/simfleet", "maker", "-state", state, "Gullwire").Output()
	if err != nil {
		return err
	}
	const cert, owner, voucher = stateDir + "/gullwire.pem", stateDir + "/owner.pem", stateDir + "/AP31-4404.vcj"
	if err := errors.Join(os.WriteFile(cert, maker, 0o600), os.WriteFile(owner, []byte(b.Owner), 0o600)); err != nil {
		return err
	}
	if err := output(exec.CommandContext(ctx, "bin/simfleet", "voucher", "-state", state, "Gullwire", "AP31-4404", owner, voucher)); err != nil {
		return err
	}
	return errors.Join(client(ctx, "", "bootstrap", "trust", cert), client(ctx, "", "bootstrap", "voucher", voucher))
}

// practice is the folder of the walk-through.
const practice = "demo/walkthrough/"

// siteAddress is where the simulated release site answers.
const siteAddress = "127.61.0.2:8080"

// licencesAddress is where the simulated licence service answers.
const licencesAddress = "127.61.0.3:8080"

// loadServices says how to get into the release site and the licence service.
func loadServices(ctx context.Context) error {
	for file, set := range map[string][]string{"site.json": {"site", "set", "makers"}, "licences.json": {"licence-service", "set"}} {
		data, err := os.ReadFile(filepath.Join(dataDir, "simfleet", file))
		if err != nil {
			return err
		}
		var access struct{ URL, User, Password string }
		if err := json.Unmarshal(data, &access); err != nil {
			return err
		}
		if err := client(ctx, access.Password+"\n", append(set, "-url", access.URL, "-user", access.User)...); err != nil {
			return err
		}
	}
	return nil
}

// kept says which images the demo brings along; what else a change needs is fetched from the release site.
func kept(file string) bool {
	return strings.HasPrefix(file, "th") && !strings.Contains(file, "-5.4.2") || file == "sg5-3.8.4.img" || file == "l24-11.2.5.pkg" || strings.HasPrefix(file, "rc6-") || strings.HasPrefix(file, "tg1-") || strings.HasPrefix(file, "lb-")
}

func loadImages(ctx context.Context) error {
	var there []struct{ File string }
	if err := clientJSON(ctx, &there, "image", "list"); err != nil {
		return err
	}
	has := map[string]bool{}
	for _, im := range there {
		has[im.File] = true
	}
	files, _ := filepath.Glob(dataDir + "/images/*")
	var missing []string
	for _, f := range files {
		if !has[filepath.Base(f)] && kept(filepath.Base(f)) {
			missing = append(missing, f)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	return client(ctx, "", append([]string{"image", "add"}, missing...)...)
}

// sites says where the demo's devices stand, and which of them fetch their images themselves.
var sites = map[string][2]string{
	"hollen-fw1":      {"Pier Hollen", "sftp"},
	"brattsund-fw1":   {"Pier Brattsund", "http"},
	"vesterkai-fw1":   {"Vesterkai terminal", "sftp"},
	"vesterkai-fw2":   {"Vesterkai terminal", "sftp"},
	"gullnes-fw1":     {"Gullnes", "http"},
	"marrow-fw1":      {"Marrow Holm", "sftp"},
	"marrow-fw2":      {"Marrow Holm", "sftp"},
	"bench-1":         {"Control room, bench", "sftp"},
	"control-sg1":     {"Control room", "http"},
	"control-sg2":     {"Control room", "http"},
	"tern-rt1":        {"MV Tern", "sftp"},
	"marrow-ramp1":    {"Marrow Holm", "tftp"},
	"marrow-gauge1":   {"Marrow Holm", "sftp"},
	"brattsund-rt1":   {"Pier Brattsund", "sftp"},
	"control-rt2":     {"Control room", "sftp"},
	"gullnes-lb1":     {"Gullnes", "sftp"},
	"vesterkai-core1": {"Vesterkai terminal", "pull-sftp"},
	"hollen-sw1":      {"Pier Hollen", "pull-sftp"},
	"innersund-wc1":   {"Innersund", "pull-sftp"},
	"innersund-wc2":   {"Innersund", "pull-sftp"},
	"innersund-sa1":   {"Innersund", "pull-sftp"},
	"innersund-sa2":   {"Innersund", "pull-sftp"},
	"innersund-sa3":   {"Innersund", "pull-sftp"},
	"control-td1":     {"Control room", "pull-sftp"},
	"control-td2":     {"Control room", "pull-sftp"},
	"control-td3":     {"Control room", "pull-sftp"},
}

func loadDevices(ctx context.Context) error {
	data, err := os.ReadFile(dataDir + "/simfleet/access.json")
	if err != nil {
		return err
	}
	var boxes []struct {
		Name, Address, User, Password, Watchword, HostKey, Dialect, Web, Token string
		Plate, Line, Community                                                 string
		LineOnly, Calls                                                        bool
		OlderVersion, OlderPassword, OlderWatchword                            string
	}
	if err := json.Unmarshal(data, &boxes); err != nil {
		return err
	}
	var there []struct{ Name string }
	if err := clientJSON(ctx, &there, "device", "list"); err != nil {
		return err
	}
	has := map[string]bool{}
	for _, d := range there {
		has[d.Name] = true
	}
	for _, b := range boxes {
		if b.Calls { // it is still in its crate
			continue
		}
		passwords := b.Password + "\n" + b.Watchword + "\n" + b.Token + "\n"
		if has[b.Name] { // the boxes may have been unpacked anew
			err = client(ctx, passwords, "device", "credentials", b.Name, "-user", b.User)
		} else {
			add := []string{"device", "add", b.Name, "-site", sites[b.Name][0], "-transfer", sites[b.Name][1], "-dialect", b.Dialect, "-user", b.User, "-web", b.Web}
			if b.LineOnly {
				add = append(add, "-address", b.Line, "-console", b.Line, "-console-only")
			} else {
				add = append(add, "-address", b.Address, "-host-key", b.HostKey, "-console", b.Line)
			}
			err = client(ctx, passwords, add...)
			if err == nil && b.OlderVersion != "" { // the installation in the other slot has passwords of its own
				err = client(ctx, b.OlderPassword+"\n", "credential", "add", "-device", b.Name, "-user", b.User, "-versions", b.OlderVersion)
			}
			if err == nil && b.OlderWatchword != "" {
				err = client(ctx, b.OlderWatchword+"\n", "credential", "add", "-device", b.Name, "-kind", "privileged", "-versions", b.OlderVersion)
			}
			if err == nil && b.Community != "" {
				err = client(ctx, b.Community+"\n", "credential", "add", "-device", b.Name, "-kind", "snmp-community")
			}
			if err == nil && b.Plate != "" { // an update brings the password on its plate back
				err = client(ctx, b.Plate+"\n", "credential", "add", "-device", b.Name, "-user", b.User)
			}
		}
		if err != nil {
			return err
		}
		if err := client(ctx, "", "device", "refresh", b.Name); err != nil {
			fmt.Println("  ", err)
		}
	}
	return nil
}

func client(ctx context.Context, stdin string, args ...string) error {
	cmd := exec.CommandContext(ctx, "bin/verimorph", args...)
	cmd.Env = append(os.Environ(), "VERIMORPH_SESSION="+session)
	cmd.Stdin = strings.NewReader(stdin)
	return output(cmd)
}

func clientJSON(ctx context.Context, into any, args ...string) error {
	cmd := exec.CommandContext(ctx, "bin/verimorph", append(args, "-json")...)
	cmd.Env = append(os.Environ(), "VERIMORPH_SESSION="+session)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	out, err := cmd.Output()
	if err != nil {
		return fmt.Errorf("%s: %w\n%s", strings.Join(args, " "), err, stderr.String())
	}
	return json.Unmarshal(out, into)
}

// output runs a command and shows what it says only when it fails.
func output(cmd *exec.Cmd) error {
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w\n%s", strings.Join(cmd.Args[:min(3, len(cmd.Args))], " "), err, out)
	}
	return nil
}

func banner() error {
	password, err := os.ReadFile(signIn)
	if err != nil {
		return err
	}
	fmt.Printf(`
Skarnvik Ferries is ready. The devices are simulated and run %s times faster than real ones.

  Console   %s
  Sign in   %s   %s

  Try       bin/verimorph sign-in %s
            bin/verimorph path hollen-fw1 -to 5.4.2
            bin/verimorph change draft hollen-fw1 -to 5.4.2
            bin/verimorph backup take hollen-fw1
            bin/verimorph backup health
            bin/verimorph path -model L24 -from 11.1.2 -aim preferred
            bin/verimorph advisory show TAR-2026-01
`, factor(), service, firstUser, password, firstUser)
	return nil
}
