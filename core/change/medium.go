package change

import "fmt"

// A device writes what it is onto a medium that somebody puts into it.

// A MediumWish says which medium is made.
type MediumWish struct {
	Label string `json:"label"`
	Place string `json:"place,omitempty"` // where it is kept
}

// A MediumJob is what such a change is drafted from. Its path is of one hop, which stays where it is.
type MediumJob struct {
	Job
	Device string
	MediumWish
}

// DraftMedium lists the steps.
func DraftMedium(j *MediumJob) (*Plan, error) {
	if !j.Can.WritesMedia {
		return nil, fmt.Errorf("such a device writes no medium that it reads back: its dialect has no write-medium and read-medium; make one from files")
	}
	in, out, write := j.step(0, Hand, HandParams{Task: fmt.Sprintf("Put an empty medium into %s, and label it %s", j.Device, j.Label)}), j.step(0, Hand), j.step(0, WriteMedium, MediumParams{File: j.Label})
	in.Title, out.Title = "Put the medium in", "Take the medium out"
	task := fmt.Sprintf("Take the medium %s out of %s", j.Label, j.Device)
	if j.Place != "" {
		task += " and take it to: " + j.Place
	}
	out.Params = HandParams{Task: task + ". It holds passwords: keep it as a key is kept"}
	plan := &Plan{Steps: []Step{j.step(0, Readings), in, j.step(0, Backup), write, out, j.verify()}}
	number(plan.Steps)
	plan.Back = []Back{{Way: BackNotNeeded, Text: "nothing on the device is changed"}}
	return plan, nil
}
