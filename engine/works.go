package engine

import (
	"verimorph/core/change"
)

// works says how each kind of step is carried out. To add a kind: name it in core/change, put it into a choreography
// there, and say here how it is inspected, performed and confirmed.
var works = map[change.Kind]work{
	change.Readings:        {inspect: readingsTaken, perform: takeReadings, confirm: countReadings},
	change.Fetch:           {inspect: fileKept, perform: awaitFile, confirm: fileKeptNow},
	change.Check:           {perform: check},
	change.Backup:          {inspect: backupTaken, perform: takeBackup},
	change.Convert:         {inspect: convertedBefore, perform: convertParts},
	change.Hand:            {perform: askHand},
	change.CleanUp:         {perform: cleanUp},
	change.Licence:         {inspect: licenceThere, perform: addLicence, confirm: licenceNow},
	change.Clone:           {inspect: cloned, intent: slotBefore, perform: clone, confirm: clonedNow},
	change.Send:            {inspect: fileThere, perform: send, confirm: sizeThere},
	change.Checksum:        {perform: compareChecksum},
	change.Component:       {inspect: componentThere, perform: updateComponent, confirm: componentTaken},
	change.PowerCycle:      {inspect: componentThere, perform: powerCycle},
	change.Install:         {inspect: installed, intent: slotBefore, perform: install, confirm: installedNow},
	change.Unpack:          {inspect: unpacked, perform: unpack, confirm: unpackedNow},
	change.Spread:          {inspect: spreadThere, perform: spread, confirm: spreadNow},
	change.Preload:         {perform: preload},
	change.GoNoGo:          {perform: check},
	change.Drain:           {perform: drain},
	change.Save:            {inspect: saved, perform: save, confirm: savedNow},
	change.ChooseSlot:      {inspect: slotChosen, intent: slotToChoose, perform: chooseSlot, confirm: slotChosenNow},
	change.KeepSlot:        {perform: keepSlot, confirm: slotKeptNow},
	change.Restart:         {inspect: restarted, intent: startBefore, perform: restart, confirm: wentDown},
	change.RestartUnits:    {perform: restartUnits},
	change.HandOver:        {inspect: handedOver, perform: handOver, confirm: handedOverNow},
	change.AwaitUnits:      {perform: awaitUnits},
	change.AwaitChildren:   {perform: awaitChildren},
	change.RestartChildren: {perform: restartChildren},
	change.BecomeManaged:   {inspect: becameManaged, perform: becomeManaged, confirm: becameManagedNow},
	change.JoinController:  {perform: joinController},
	change.ReleaseChild:    {inspect: released, perform: releaseChild, confirm: releasedNow},
	change.Link:            {perform: waitLink},
	change.Login:           {perform: waitLogin},
	change.Confirm:         {perform: confirmVersion},
	change.Services:        {perform: waitServices},
	change.RenameSlot:      {inspect: slotRenamed, perform: renameSlot, confirm: slotRenamedNow},
	change.RemoveSlot:      {inspect: slotRemoved, perform: removeSlot, confirm: slotRemovedNow},
	change.Undrain:         {inspect: inService, perform: undrain, confirm: inServiceNow},
	change.Prestage:        {perform: sendAhead},
	change.Tidy:            {perform: tidy},
	change.Settle:          {perform: settle},
	change.Sync:            {perform: waitSync},
	change.Switch:          {inspect: tookOver, perform: takeOver, confirm: tookOverNow},
	change.Verify:          {perform: awaitVerdict, confirm: verdict},

	change.CheckRestore: {perform: checkRestore},
	change.Validate:     {perform: validate},
	change.PutPart:      {inspect: partThere, perform: putPart, confirm: partTaken},
	change.CompareParts: {perform: compareParts},
}
