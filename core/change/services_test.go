package change

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/version"
)

func servicesJob(other string, parts ...Restored) *ServicesJob {
	v := version.MustParse("4.2.2")
	way := &path.Path{Model: "SG-5", From: v, To: v, Hops: []path.Hop{{From: v, To: v}}}
	return &ServicesJob{Job: Job{Family: &catalog.Family{}, Path: way, Can: Abilities{Parts: parts, Validate: true}}, Services: []string{"web", "mail"}, Other: other}
}

// Services are put by one configuration, which the device reads first, and whose way back is the one of before. Other parts of a device stay as they are.
func TestDraftServices(t *testing.T) {
	users := Restored{Name: "users", Title: "Users"}
	plan, err := DraftServices(servicesJob("old", users, Restored{Name: "running", Title: "Configuration", Configuration: true, Save: true}))
	require.NoError(t, err)
	assert.Equal(t, []Kind{Readings, Backup, PlaceServices, Validate, PutPart, Save, Services, Backup, Verify}, kindsOf(plan.Steps))
	put := plan.Steps[4]
	assert.Equal(t, "Put: web, mail", put.Title)
	assert.Equal(t, PartParams{Part: "running", Serves: true}, put.Params)
	assert.True(t, put.Irreversible(), "failing there asks for the way back")
	require.Len(t, plan.Back, 1)
	assert.True(t, plan.Back[0].Leads())
	assert.Contains(t, plan.Back[0].Text, "old goes on serving")
	assert.Equal(t, []Kind{Validate, PutPart, Save, Services, Verify}, kindsOf(plan.Back[0].Steps))
	for _, s := range plan.Back[0].Steps {
		assert.True(t, s.Back && !s.Irreversible())
	}

	plan, err = DraftServices(servicesJob("", Restored{Name: "running", Configuration: true, Restart: true}))
	require.NoError(t, err)
	assert.Equal(t, []Kind{Readings, Backup, PlaceServices, Validate, PutPart, Restart, Link, Login, Confirm, Services, Backup, Verify}, kindsOf(plan.Steps))
	assert.Equal(t, "Take off: web, mail", plan.Steps[4].Title)
	_, err = DraftServices(servicesJob("old", users))
	assert.ErrorContains(t, err, "restores none")
}

// Where a service stands is told by the changes that moved it, and by whether its gateway has it: a failed one is a doubt, never "gone".
func TestWhereServicesStand(t *testing.T) {
	for _, c := range []struct {
		put, off State
		there    bool
		want     string
	}{
		{"", "", true, ServiceHere},
		{Drafted, "", true, ServiceMoving},
		{Asking, "", true, ServiceMoving},
		{Done, "", true, ServiceBoth},
		{Returned, "", true, ServiceHere},
		{Failed, "", true, ServiceUnclear},
		{Done, Running, true, ServiceWithdrawing},
		{Done, Done, false, ServiceGone},
		{Done, Done, true, ServiceBoth}, // somebody put it back
		{Done, Failed, false, ServiceUnclear},
		{Done, Returned, true, ServiceBoth},
		{"", Done, false, ServiceGone},
	} {
		assert.Equal(t, c.want, Moved{Put: c.put, TakenOff: c.off}.Stands(c.there), "%+v", c)
	}
	assert.True(t, MovesServices(Moving) && MovesServices(Withdrawing) && !MovesServices(Firmware))
}
