package server

import (
	"context"

	"github.com/gin-gonic/gin"

	"verimorph/access"
	"verimorph/api/gen"
	"verimorph/store"
)

// rights is the right that each call needs which may change something. A call that is not here only looks.
var rights = map[string]access.Right{
	"AddDevice": access.Administer, "SetDevice": access.Administer, "SetCredentials": access.Administer, "SetHostKey": access.Administer,
	"ForgetHostKey": access.Administer,
	"AddCredential": access.Administer, "DeleteCredential": access.Administer, "PutSignInTries": access.Administer, "RotateKey": access.Administer,
	"PutNotifications": access.Administer, "TestNotifications": access.Administer, "PutChangePolicy": access.Administer,
	"ArmFault": access.Administer, "HealFault": access.Administer,
	"LoadCatalogue": access.Administer, "RestoreCatalogueVersion": access.Administer, "AddAdvisory": access.Administer,
	"DeleteAdvisory": access.Administer,
	"SetSite":        access.Administer, "DeleteSite": access.Administer, "PutOwnReading": access.Administer, "DeleteOwnReading": access.Administer,
	"PutBackupSchedule": access.Administer, "DeleteBackupSchedule": access.Administer, "HoldBackup": access.Administer,
	"ReleaseBackup": access.Administer, "PruneBackups": access.Administer,
	"ImportBackup": access.Administer, "CheckBackups": access.Draft, "CheckImages": access.Draft, "DeleteImage": access.Administer,

	"AddImage": access.Draft, "StartUpload": access.Draft, "ContinueUpload": access.Draft, "DropUpload": access.Draft,
	"StartFetches": access.Draft, "ActOnFetch": access.Draft,
	"PutTemplate": access.Draft, "DeleteTemplate": access.Draft, "BringUp": access.Draft, "DraftReplacement": access.Draft, "PutBackReplaced": access.Draft, "ReleaseReplaced": access.Approve, "PreviewReplacement": access.Draft, "PutBootstrapMakers": access.Administer, "AddVoucher": access.Administer, "PutLicenceService": access.Administer,
	"AddSpare": access.Draft, "PrepareSpare": access.Draft, "ShipSpare": access.Draft, "SwapSpare": access.Draft, "ArriveSpare": access.Draft, "WipedSpare": access.Draft, "RetireSpare": access.Approve,
	"MakeMedium": access.Draft, "PackMedium": access.Draft, "CheckMedium": access.Draft, "PlaceMedium": access.Draft, "RetireMedium": access.Approve,
	"DraftServices": access.Draft, "PreviewServices": access.Draft, "ConvertServices": access.Draft,
	"DeclareEnsemble": access.Administer, "DeleteEnsemble": access.Administer,
	"RefreshDevice": access.Draft, "TakeBackup": access.Draft, "TakeReadings": access.Draft, "VerifyDevice": access.Draft,
	"CreateConversion": access.Draft, "ChangeConversion": access.Draft, "DeleteConversion": access.Draft, "TryConversion": access.Draft,
	"DraftChange": access.Draft, "RedraftChange": access.Draft, "DraftRestore": access.Draft, "CheckChange": access.Draft,
	"TryDialect": access.Administer, // whoever writes a dialect can have anything sent to a device
	"SetTerms":   access.Draft, "PreviewRestore": access.Draft,

	"AcceptWarnings": access.Approve, "AddEvidence": access.Operate,
	"ActOnChange": access.Look, // which right it needs follows from the act; the gate decides on the record
}

// looks are the calls that send something and change nothing.
var looks = []string{"SignIn", "SignOut", "FindPath", "PlanPath", "ExplainHop", "CompareConfigurations", "CompareBundles", "FindServices",
	"CarveServices", "SearchBackups", "CheckDialect", "FillTemplate"}

// gate refuses calls that somebody has no right to. Acts on changes pass the gate on the record besides, in the transaction that writes them.
func (s *Server) gate(next gen.StrictHandlerFunc, operation string) gen.StrictHandlerFunc {
	return func(c *gin.Context, request any) (any, error) {
		if right, changes := rights[operation]; changes {
			if err := access.May(actor(c), right); err != nil {
				return nil, err
			}
		}
		return next(c, request)
	}
}

// audited runs f in one transaction with its line in the audit.
func (s *Server) audited(ctx context.Context, event, device, detail string, f func(tx *store.Store) error) error {
	return s.Store.Audited(ctx, actor(ctx), func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: event, Device: device, Detail: detail}, f(tx)
	})
}
