package e2e

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/api/gen"
)

const testFactor = 150

func TestStory(t *testing.T) {
	t.Parallel()
	e := setUp(t, testFactor, hollen(), simulated{name: "gullnes-fw1", model: "TH-60", version: "5.0.7"})
	list := e.must("device", "list")
	assert.Contains(t, e.must("device", "list", "-model", "TH-60", "-version", "4.2.3"), "hollen-fw1")
	assert.NotContains(t, e.must("device", "list", "-model", "TH-60", "-version", "4.2"), "hollen-fw1")
	assert.Contains(t, list, "hollen-fw1   Pier Test  TH-60  4.2.3    ready")

	way := e.must("path", "hollen-fw1", "-to", "5.4.2")
	for _, text := range []string{
		"3 hops", "hop 2: 4.2.9 to 5.0.7, configuration converted", "permitted by TH-R1", "needed: TH-R6", "Not 4.2.3 to 5.4.2:",
		"x TH-R7 a hop that crosses 5.0 must land on 5.0.x, not 5.4.2", "(not in the image store)",
	} {
		assert.Contains(t, way, text)
	}
	e.refused(1, []string{"the image store lacks th60-4.2.9.img, th60-5.0.7.img, th60-5.4.2.img"}, "change", "draft", "hollen-fw1", "-to", "5.4.2")
	e.addImages(storyImages...)

	e.must("change", "draft", "hollen-fw1", "-to", "5.4.2")
	e.refused(1, []string{"cannot start a change that is draft; possible now: [approve stop]"}, "change", "start", "1")
	assert.Contains(t, e.must("change", "show", "1"), "Hop 3 of 3  5.0.7 to 5.4.2")
	e.must("change", "approve", "1")
	assert.Contains(t, e.refused(1, nil, "change", "watch", "1"), "It was not started. Change 1 is approved. Start it with: verimorph change start 1", "there is nothing to wait for")
	e.must("change", "start", "1")
	watched := e.must("change", "watch", "1")
	assert.Contains(t, watched, "Verdict: pass")
	assert.Regexp(t, `expected \d+ to \d+ s, limit \d+ (s|min)`, watched)
	assert.Contains(t, e.must("change", "verdict", "1"), "Address translation rules    met            all 4 are there")

	ch := e.change("1")
	assert.Equal(t, gen.ChangeStateDone, ch.State)
	for _, s := range ch.Steps {
		assert.Equal(t, gen.StepStateDone, s.State, s.Title)
		assert.NotEmpty(t, s.Outcome, s.Title)
		assert.NotNil(t, s.EndedAt)
	}
	assert.NotContains(t, stepOf(ch, 1, "restart").Outcome, "still answers")
	st := e.firewall("hollen-fw1").Status()
	assert.Equal(t, "5.4.2", st.Version)
	assert.Equal(t, 3, st.Fits, "each hop installed once")
	assert.Equal(t, 4, st.Boots, "each hop restarted once")
	assert.Contains(t, st.Config, "rewrite web-tickets", "the device converted its address translation")
	assert.Contains(t, e.must("device", "list"), "hollen-fw1   Pier Test  TH-60  5.4.2")

	t.Run("backups", func(t *testing.T) {
		assert.Len(t, strings.Split(strings.TrimSpace(e.must("backup", "list", "-device", "hollen-fw1")), "\n"), 4, "one a hop and the head")
		text := e.must("backup", "show", "1", "-part", "running")
		assert.Contains(t, text, "translate web-tickets")
		assert.Contains(t, text, "secret ***")
		diff := e.refused(1, []string{"removed  translate web-tickets", "added  rewrite web-tickets"}, "backup", "compare", "1", "3")
		assert.NotContains(t, diff, "policy", "what did not change is not shown")
	})
	t.Run("nothing left to do", func(t *testing.T) {
		assert.Contains(t, e.must("path", "hollen-fw1", "-to", "5.4.2"), "nothing to change")
		e.refused(1, []string{"runs 5.4.2 already"}, "change", "draft", "hollen-fw1", "-to", "5.4.2")
	})
	t.Run("no secret anywhere", func(t *testing.T) { noSecrets(t, e) })
}

// noSecrets looks for the devices' passwords and the secrets of their configurations in everything that was written.
func noSecrets(t *testing.T, e *env) {
	a := e.firewall("hollen-fw1").Access()
	secrets := []string{a.Password, a.Watchword, e.password}
	for _, l := range strings.Split(e.firewall("hollen-fw1").Status().Config, "\n") {
		if s, ok := strings.CutPrefix(l, "  secret "); ok {
			secrets = append(secrets, s)
		}
	}
	require.Greater(t, len(secrets), 4)
	where := map[string]string{"log": e.log.String()}
	require.NoError(t, filepath.WalkDir(filepath.Join(e.dir, "data"), func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && !strings.Contains(name, "/images/") {
			data, err := os.ReadFile(name)
			where[name] = string(data)
			return err
		}
		return err
	}))
	conn, err := pgx.Connect(t.Context(), e.database)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	for _, table := range []string{"devices", "changes", "steps", "journal", "backups", "river_job", "sessions", "users", "catalogue_files", "credentials", "audit", "data_keys", "backup_attempts", "settings"} {
		rows, err := conn.Query(t.Context(), "SELECT to_jsonb(t)::text FROM "+table+" t")
		require.NoError(t, err)
		all, err := pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(t, err)
		where[table] = strings.Join(all, "\n")
	}
	require.NotEmpty(t, where["devices"])
	for _, args := range [][]string{{"change", "show", "1", "-json"}, {"change", "journal", "1"}, {"device", "show", "hollen-fw1", "-json"}, {"backup", "show", "1", "-part", "running"}, {"backup", "show", "1", "-json"}, {"credential", "list", "-json"}, {"audit", "-json"}} {
		where[strings.Join(args, " ")] = e.must(args...)
	}
	for name, text := range where {
		for i, s := range secrets {
			assert.False(t, strings.Contains(text, s), "secret %d stands in %s", i, name)
		}
	}
}

// TestKilled ends the service with kill -9 in the middle of every kind of step that touches the device, and once in
// order, and shows that the change goes on from where the device stands.
func TestKilled(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen())
	e.addImages(storyImages...)
	id := e.begin("hollen-fw1", "5.4.2")
	for _, at := range []struct {
		hop  int
		kind string
	}{{1, "send"}, {1, "install"}, {1, "restart"}, {1, "login"}, {2, "checksum"}, {2, "install"}, {2, "link"}, {3, "choose-slot"}} {
		e.awaitStep(id, at.hop, at.kind)
		e.killService()
		e.startService()
	}
	e.awaitStep(id, 3, "services")
	require.NoError(t, e.service.Process.Signal(syscall.SIGTERM))
	require.NoError(t, e.service.Wait(), "it ends in order, exit code 0")
	e.startService()
	ch := e.awaitEnd(id)
	assert.Equal(t, gen.ChangeStateDone, ch.State, "%v", ch.Failure)
	require.NotNil(t, ch.Verdict)
	assert.Equal(t, gen.VerdictVerdictPass, ch.Verdict.Verdict)
	st := e.firewall("hollen-fw1").Status()
	assert.Equal(t, "5.4.2", st.Version)
	assert.Equal(t, 3, st.Fits, "never installed twice")
	assert.Equal(t, 4, st.Boots, "never restarted twice")
	var backups []gen.Backup
	require.NoError(t, json.Unmarshal([]byte(e.must("backup", "list", "-json")), &backups))
	assert.Len(t, backups, 3, "one a hop")
	fences := map[string]bool{}
	conn, err := pgx.Connect(t.Context(), e.database)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	rows, err := conn.Query(t.Context(), "SELECT DISTINCT fence FROM journal WHERE fence > 0")
	require.NoError(t, err)
	all, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	require.NoError(t, err)
	for _, f := range all {
		fences[fmt.Sprint(f)] = true
	}
	assert.GreaterOrEqual(t, len(fences), 5, "several workers carried the change, each with its own fence")
}

// TestKilledAtRandom runs changes on three devices with two services on one database and kills one or the other at
// random moments.
func TestKilledAtRandom(t *testing.T) {
	t.Parallel()
	e := setUp(t, 30, hollen(), simulated{name: "b-fw1", model: "TH-60", version: "4.2.6", transfer: "http"}, simulated{name: "c-fw1", model: "TH-60", version: "5.0.7"})
	e.addImages(storyImages...)
	second := *e
	second.url, second.transfer, second.calls = freeAddress(t), freeAddress(t), freeAddress(t)
	second.startService()
	t.Cleanup(second.killService)
	ids := map[string]string{}
	for _, name := range []string{"hollen-fw1", "b-fw1", "c-fw1"} {
		ids[name] = e.begin(name, "5.4.2")
	}
	seed := time.Now().UnixNano()
	t.Logf("seed %d", seed)
	dice := rand.New(rand.NewPCG(uint64(seed), 1))
	over := func() bool {
		for _, id := range ids {
			if e.change(id).EndedAt == nil {
				return false
			}
		}
		return true
	}
	kills := 0
	for ; kills < 40 && !over(); kills++ {
		time.Sleep(time.Duration(dice.IntN(900)) * time.Millisecond)
		if dice.IntN(2) == 0 {
			second.killService()
			second.startService()
		} else {
			e.killService()
			e.startService()
		}
	}
	t.Logf("killed %d times", kills)
	for name, id := range ids {
		ch := e.awaitEnd(id)
		assert.Equal(t, gen.ChangeStateDone, ch.State, "%s: %v", name, ch.Failure)
		st := e.firewall(name).Status()
		assert.Equal(t, "5.4.2", st.Version)
		assert.Equal(t, len(ch.Path.Hops), st.Fits, "%s: never installed twice", name)
		assert.Equal(t, 1+len(ch.Path.Hops), st.Boots, "%s: never restarted twice", name)
		var backups []gen.Backup
		require.NoError(t, json.Unmarshal([]byte(e.must("backup", "list", "-device", name, "-json")), &backups))
		hops := map[int]bool{}
		for _, b := range backups {
			hops[*b.Hop] = true
			assert.Contains(t, e.must("backup", "show", fmt.Sprint(b.Id), "-part", "running"), "user bosun")
		}
		assert.Len(t, hops, len(ch.Path.Hops), "a backup before every hop")
	}
}

func TestHoldAndResume(t *testing.T) {
	t.Parallel()
	e := setUp(t, 60, hollen())
	e.addImages("th60-4.2.9.img")
	id := e.begin("hollen-fw1", "4.2.9")
	e.awaitStep(id, 1, "install")
	e.refused(1, []string{"pause it first"}, "change", "stop", id)
	e.must("change", "pause", id)
	ch := e.await(id, "holds", func(ch gen.Change) bool { return ch.State == gen.ChangeStatePaused })
	for _, s := range ch.Steps {
		assert.NotEqual(t, gen.StepStateRunning, s.State, "it holds between steps")
	}
	fits := e.firewall("hollen-fw1").Status().Fits
	other := fmt.Sprint(e.draft("hollen-fw1", "4.2.9"))
	e.must("change", "approve", other)
	e.refused(1, []string{"change " + id + " occupies the device"}, "change", "start", other)
	assert.Equal(t, fits, e.firewall("hollen-fw1").Status().Fits, "nothing happens while it is held")
	e.must("change", "resume", id)
	assert.Equal(t, gen.ChangeStateDone, e.awaitEnd(id).State)

	// The other draft starts from a version that the device has left: it does not start.
	e.refused(1, []string{"its version is 4.2.9, planned was 4.2.3", "draft it anew"}, "change", "start", other)
	assert.Equal(t, 1, e.firewall("hollen-fw1").Status().Fits)
}
