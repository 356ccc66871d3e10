package ready

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/portrait"
)

// good is a device that is ready in every respect.
func good() Facts {
	age := time.Hour
	yes := true
	now := time.Date(2026, 11, 24, 2, 0, 0, 0, time.UTC)
	return Facts{SignedInAs: "bosun", WantModel: "TH-60", Model: "TH-60", WantSerial: "S", Serial: "S", WantVersion: "5.0.7", Version: "5.0.7",
		Files: []File{{Name: "a.img", There: true}}, Total: 100 << 20, Free: 50 << 20, Need: 5 << 20, HasSlots: true, Writes: true, Starts: true, Idle: "b", IdleHolds: "5.0.6", RunningIn: "a",
		BackText: "start 5.0.7 again", BackupAge: &age, BackupSoon: true, Touches: true, CanSave: true, Unsaved: portrait.No, Services: portrait.Yes, Modules: []portrait.Module{{Name: "fan-1", State: "well", Good: portrait.Yes}},
		Needs: []Need{{Check: Variables + " Q1", Text: "the boot variable must be clear", Met: &yes, Evidence: "it is clear", What: "clear it"}},
		Now:   now, From: now.Add(-time.Hour), To: now.Add(time.Hour), Rest: 20 * time.Minute, Back: 15 * time.Minute, Half: 10 * time.Minute}
}

// Whoever approves a change of platform reads what others will not know the device by any more.
func TestWhatWillChangeIsListed(t *testing.T) {
	f := good()
	f.GoesOnAs = "TH-61"
	said := func() string {
		checks := Checks(f)
		i := slices.IndexFunc(checks, func(k Check) bool { return k.Name == Platform })
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, Pass, checks[i].State)
		return checks[i].Evidence
	}
	assert.Contains(t, said(), "nothing by which others know it changes")
	f.WillChange = []string{"serial", "host-key"}
	assert.Contains(t, said(), "it goes on as TH-61; will change: serial, host-key. Tell whoever watches it")
	f.GoesOnAs = ""
	assert.False(t, slices.ContainsFunc(Checks(f), func(k Check) bool { return k.Name == Platform }), "a device that stays what it is has no such line")
}

func TestEachCheckStandsForItself(t *testing.T) {
	require.Equal(t, Pass, worst(Checks(good())), "%v", Checks(good()))
	no := false
	old := 30 * time.Hour
	for name, c := range map[string]struct {
		spoil func(*Facts)
		check string
		state State
		says  string
	}{
		"unreachable":        {func(f *Facts) { f.Unreachable = "nothing answers" }, Reach, Stop, "nothing answers"},
		"no credential":      {func(f *Facts) { f.NoCredential = []string{"5.4.2"} }, WaysIn, Warn, "5.4.2"},
		"another box":        {func(f *Facts) { f.Serial = "X" }, Identity, Stop, "its serial is X, planned was S"},
		"the active one":     {func(f *Facts) { f.Role, f.Mate, f.InSync = "active", "S2", portrait.Yes }, Others, Warn, "when it goes down, S2 takes over in that moment"},
		"nobody takes over":  {func(f *Facts) { f.Role, f.Mate, f.Sync, f.InSync = "active", "S2", "97 %", portrait.No }, Others, Warn, "S2 could not take over as it is: 97 %"},
		"who knows":          {func(f *Facts) { f.Role = "leader" }, Others, Warn, "whether another member could take over is not known"},
		"another version":    {func(f *Facts) { f.Version = "5.0.6" }, Identity, Stop, "its version is 5.0.6"},
		"another change":     {func(f *Facts) { f.OtherChange = 7 }, OtherWork, Stop, "change 7"},
		"image damaged":      {func(f *Facts) { f.Files[0].There, f.Files[0].Why = false, "damaged" }, Images, Stop, "a.img (damaged)"},
		"no room":            {func(f *Facts) { f.Free, f.Removable = 1<<20, []string{"old.bin (3.0 MiB)"} }, Room, Stop, "1.0 MiB of 100.0 MiB are free"},
		"no room but theirs": {func(f *Facts) { f.Free, f.Installed = 1<<20, []string{"now.bin (3.0 MiB, the image of 5.0.7)"} }, Room, Stop, "1.0 MiB of 100.0 MiB are free"},
		"no room elsewhere": {func(f *Facts) {
			f.Stores = []Store{{"places", portrait.Room{Total: 100 << 20, Free: 5 << 20}, 6 << 20}}
		}, Room + " places", Stop, "takes 6.0 MiB more there, and 5.0 MiB of 100.0 MiB"},
		"nearly full":         {func(f *Facts) { f.Stores = []Store{{"logs", portrait.Room{Total: 100 << 20, Free: 1 << 20}, 0}} }, Room + " logs", Warn, "nearly full"},
		"room unknown":        {func(f *Facts) { f.Total = 0 }, Room, Warn, "does not say"},
		"no slot":             {func(f *Facts) { f.Idle = "" }, Slots, Stop, "no slot is idle"},
		"slot being written":  {func(f *Facts) { f.IdleBusy = true }, Slots, Stop, "by somebody else"},
		"no way back":         {func(f *Facts) { f.BackText = "" }, WayBack, Warn, "none is known"},
		"way back lacks":      {func(f *Facts) { f.BackFile = "old.img" }, WayBack, Warn, "old.img"},
		"no backup":           {func(f *Facts) { f.BackupAge, f.BackupSoon = nil, false }, BackupCheck, Stop, "no complete backup"},
		"no backup, an act":   {func(f *Facts) { f.BackupAge, f.BackupSoon, f.Single = nil, false, true }, BackupCheck, Warn, "no complete backup"},
		"old backup":          {func(f *Facts) { f.BackupAge, f.BackupSoon = &old, false }, BackupCheck, Stop, "30 h 00 min old"},
		"unsaved, saved":      {func(f *Facts) { f.Unsaved, f.SavesFirst = portrait.Yes, true }, Unsaved, Warn, "this change saves it"},
		"unsaved, lost":       {func(f *Facts) { f.Unsaved = portrait.Yes }, Unsaved, Stop, "would lose"},
		"unsaved, not known":  {func(f *Facts) { f.Unsaved = portrait.Unknown }, Unsaved, Warn, "not known"},
		"not understood":      {func(f *Facts) { f.NotUnderstood = map[string]string{"files": "the line \"1'204 x\""} }, Understood, Warn, "files: the line"},
		"services starting":   {func(f *Facts) { f.Services = portrait.No }, Services, Warn, "not ready"},
		"nothing to keep":     {func(f *Facts) { f.Empty = []string{"Tunnels up (none before)"} }, Readings, Warn, "nothing to keep: Tunnels up"},
		"a reading not read":  {func(f *Facts) { f.NotRead = []string{"Ports up (not readable: %%)"} }, Readings, Warn, "not readable: Ports up"},
		"a fan":               {func(f *Facts) { f.Modules[0].Good, f.Modules[0].State = portrait.No, "stands still" }, Health, Warn, "fan-1: stands still"},
		"a part, not known":   {func(f *Facts) { f.Modules[0].Good = portrait.Unknown }, Health, Warn, "not known of 1 of 1 parts: fan-1"},
		"no serial":           {func(f *Facts) { f.Serial = "" }, Identity, Stop, "its serial is not known, planned was S"},
		"a prerequisite":      {func(f *Facts) { f.Needs[0].Met, f.Needs[0].Evidence = &no, "it is set" }, Variables + " Q1", Stop, "it is set"},
		"nobody knows":        {func(f *Facts) { f.Needs[0].Met = nil }, Variables + " Q1", Warn, ""},
		"a conversion":        {func(f *Facts) { f.ConversionOpen, f.ConversionHow = "two lines", "convert it" }, Conversion, Warn, "two lines"},
		"too early":           {func(f *Facts) { f.From = f.Now.Add(time.Minute) }, Window, Stop, "it opens at"},
		"too late":            {func(f *Facts) { f.To = f.Now }, Window, Stop, "it closed at"},
		"too short to return": {func(f *Facts) { f.To = f.Now.Add(34 * time.Minute) }, Window, Stop, "could not finish and still go back"},
	} {
		f := good()
		c.spoil(&f)
		checks := Checks(f)
		i := slices.IndexFunc(checks, func(k Check) bool { return k.Name == c.check })
		require.GreaterOrEqual(t, i, 0, name)
		assert.Equal(t, c.state, checks[i].State, name)
		assert.Contains(t, checks[i].Evidence, c.says, name)
		assert.NotEmpty(t, checks[i].Remedy, "%s: what to do is told", name)
		for j, k := range checks {
			if j != i {
				assert.Equal(t, Pass, k.State, "%s spoils %s too", name, k.Name)
			}
		}
		assert.Equal(t, c.state, worst(checks))
		assert.Len(t, Of(checks, c.state), 1)
		assert.Contains(t, Text(Of(checks, c.state)), checks[i].Title)
	}
	for text, spoil := range map[string]func(*Facts){
		"nothing would have to be undone":     func(f *Facts) { f.BackNeedless = true },
		"7.0 MiB of 10.0 MiB are free":        func(f *Facts) { f.Stores = []Store{{"places", portrait.Room{Total: 10 << 20, Free: 7 << 20}, 7 << 20}} },
		"whether they are ready is not known": func(f *Facts) { f.Services = portrait.Unknown },
		"knows no command to save":            func(f *Facts) { f.Unsaved, f.CanSave = portrait.Unknown, false },
		"could lose configuration":            func(f *Facts) { f.BackupSoon, f.Touches = false, false },
		"which cannot be started":             func(f *Facts) { f.IdleBroken = true },
		"nothing is started anew":             func(f *Facts) { f.Unsaved, f.Starts = portrait.Yes, false },
		"none is written":                     func(f *Facts) { f.Writes = false },
		"58 min 00 s are left until":          func(f *Facts) { f.RestartFrom = f.Now.Add(2 * time.Minute) },
	} {
		f := good()
		spoil(&f)
		assert.Equal(t, Pass, worst(Checks(f)), text)
		assert.Contains(t, Text(Checks(f)), text)
	}
	f := good()
	f.RestartFrom = f.Now.Add(30 * time.Minute)
	assert.Contains(t, Text(Of(Checks(f), Stop)), "30 min 00 s are left until 03:00 UTC once it may pass the point of no return at 02:30 UTC", "what is left is counted from there")
	f = good()
	f.Writes, f.IdleBusy = false, true
	assert.Equal(t, Stop, worst(Checks(f)), "somebody else is at work")
	f = good()
	f.To = f.Now.Add(35 * time.Minute)
	assert.Equal(t, Pass, worst(Checks(f)), "just enough is enough")

	f = good()
	f.Role, f.Mate = "standby", "S2"
	assert.Contains(t, Checks(f), Check{Name: Others, Title: "Others of its ensemble", State: Pass, Evidence: "it is standby; S2 serves meanwhile"})
	f.Role, f.Together = "active", true
	assert.Equal(t, Pass, worst(Checks(f)), "its ensemble is changed as a whole")
}

func TestPercentiles(t *testing.T) {
	values := []float64{5, 1, 4, 2, 3, 10, 6, 7, 8, 9}
	assert.Equal(t, 5.0, P(values, 0.5))
	assert.Equal(t, 10.0, P(values, 0.95))
	assert.Equal(t, 1.0, P(values, 0.1))
	assert.Zero(t, P(nil, 0.5))
	assert.Equal(t, 3.0, P([]float64{3}, 0.95))
	for d, want := range map[time.Duration]string{72 * time.Hour: "3 days", 90 * time.Minute: "1 h 30 min", 61 * time.Second: "1 min 01 s", 12 * time.Second: "12 s", 1500 * time.Millisecond: "1.5 s"} {
		assert.Equal(t, want, Rounded(d))
	}
}

// At its limit a check still says what it says below it, and no more is told than there is to tell.
func TestChecksAtTheirLimits(t *testing.T) {
	day, hour := 24*time.Hour, time.Hour
	names := []string{"a", "b", "c", "d", "e", "f"}
	for _, c := range []struct {
		spoil            func(*Facts)
		check            string
		state            State
		evidence, remedy string
	}{
		{func(f *Facts) { f.Need = f.Free }, Room, Pass, "50.0 MiB are needed, 50.0 MiB of 100.0 MiB are free", ""},
		{func(f *Facts) { f.Free = 1 << 20 }, Room, Stop, "5.0 MiB are needed and 1.0 MiB of 100.0 MiB are free", "remove files from the device"},
		{func(f *Facts) { f.Free, f.Removable = 1<<20, []string{"old"} }, Room, Stop, "5.0 MiB are needed and 1.0 MiB of 100.0 MiB are free", "remove files from the device; these belong to no installation: old"},
		{func(f *Facts) { f.Free, f.Installed = 1<<20, []string{"now"} }, Room, Stop, "5.0 MiB are needed and 1.0 MiB of 100.0 MiB are free", "remove files from the device; leave these, unless you know that nothing runs from them: now"},
		{func(f *Facts) { f.Stores = []Store{{"logs", portrait.Room{Total: 100 << 20, Free: 2 << 20}, 0}} }, Room + " logs", Pass, "2.0 MiB of 100.0 MiB are free", ""},
		{func(f *Facts) { f.GoesBack, f.UndoneBackup = true, 7 }, Undone, Pass, "nothing was configured since backup 7", ""},
		{func(f *Facts) { f.GoesBack, f.UndoneBackup, f.Undone = true, 7, names }, Undone, Warn, "going back undoes 6 statements that were configured since backup 7: a, b, c, d, e, f", "see all of it with: verimorph change back DEVICE -preview"},
		{func(f *Facts) { f.GoesBack, f.UndoneBackup, f.Undone = true, 7, append(names, "g", "h") }, Undone, Warn, "going back undoes 8 statements that were configured since backup 7: a, b, c, d, e, f and 2 more", "see all of it with: verimorph change back DEVICE -preview"},
		{func(f *Facts) { f.GoesBack, f.UndoneUnknown, f.CanCarry = true, "no backup", true }, Undone, Warn, "what going back undoes is not known: no backup", "see all of it with: verimorph change back DEVICE -preview; have it converted and carried along with -carry"},
		{func(f *Facts) { f.GoesBack, f.Carried = true, true }, Undone, Pass, "it is converted and carried along", ""},
		{func(f *Facts) { f.Older, f.Against = "5.0.6", []string{"it is withdrawn"} }, OlderRelease, Warn, "5.0.6: it is withdrawn", "choose another release, or say why it has to be this one"},
		{func(f *Facts) { f.Older = "5.0.6" }, OlderRelease, Pass, "no advisory that was imported names 5.0.6, and it is not withdrawn", ""},
		{func(f *Facts) {
			f.Modules = append(f.Modules, portrait.Module{Name: "fan-2", State: "well", Good: portrait.Yes})
		}, Health, Pass, "all 2 parts are well", ""},
		{func(f *Facts) { f.Files[0].There, f.Files[0].Comes = false, true }, Images, Pass, "still being fetched: a.img; its hop waits for that", ""},
		{func(f *Facts) { f.BackupAge = nil }, BackupCheck, Pass, "the change takes the first one before it touches anything, and goes on only when it is complete", ""},
		{func(f *Facts) { f.BackupAge, f.BackupSoon = &day, false }, BackupCheck, Pass, "this change takes none; the last complete one is 24 h 00 min old", ""},
		{func(f *Facts) { f.BackupAge, f.BackupSoon = &hour, false }, BackupCheck, Pass, "this change takes none; the last complete one is 1 h 00 min old", ""},
		{func(f *Facts) { f.Need = 0 }, WaysIn, Pass, "there are credentials for every version on the way and on the way back", ""},
		{func(f *Facts) { f.BackIsAuto = true }, WayBack, Pass, "start 5.0.7 again; it is taken without asking", ""},
	} {
		f := good()
		c.spoil(&f)
		checks := Checks(f)
		i := slices.IndexFunc(checks, func(k Check) bool { return k.Name == c.check })
		require.GreaterOrEqual(t, i, 0, c.check)
		assert.Equal(t, Check{Name: c.check, Title: checks[i].Title, State: c.state, Evidence: c.evidence, Remedy: c.remedy}, checks[i])
	}
	// What does not apply is not told.
	f := good()
	f.Modules, f.Files = nil, nil
	for _, k := range Checks(f) {
		assert.NotContains(t, []string{Health, Images, Undone, OlderRelease, Readings, Understood, Conversion}, k.Name)
	}
	f.Unreachable = "nothing answers"
	for _, k := range Checks(f) {
		assert.NotEqual(t, WaysIn, k.Name, "whether the ways in are enough is not known")
	}
	// They are told in the order of the names.
	var told []int
	for _, k := range Checks(good()) {
		kind, _, _ := strings.Cut(k.Name, " ")
		told = append(told, slices.Index(order, kind))
	}
	assert.True(t, slices.IsSorted(told), "%v", told)
	assert.NotContains(t, Text([]Check{{Title: "A", Evidence: "b"}}), "(")
	for d, want := range map[time.Duration]string{48 * time.Hour: "2 days", 48*time.Hour - time.Second: "47 h 59 min", time.Hour: "1 h 00 min", time.Minute: "1 min 00 s", 10 * time.Second: "10 s", 9900 * time.Millisecond: "9.9 s"} {
		assert.Equal(t, want, Rounded(d))
	}
	assert.Equal(t, 2.0, P([]float64{2, 1}, 1))
	assert.Equal(t, 1.0, P([]float64{1, 2}, 0))
}

// worst is the worst state of some checks.
func worst(checks []Check) State {
	for _, s := range []State{Stop, Warn} {
		if len(Of(checks, s)) > 0 {
			return s
		}
	}
	return Pass
}

// What is accepted of one device is not accepted of another.
func TestChecksOfSeveralDevices(t *testing.T) {
	cs := OfMember([]Check{{Name: Services, Title: "Services", State: Warn}}, "fw2")
	assert.Equal(t, []Check{{Name: "services fw2", Title: "fw2: Services", State: Warn, Member: "fw2"}}, cs)
	assert.Equal(t, cs[0].Name, MemberName(Services, "fw2"))
}
