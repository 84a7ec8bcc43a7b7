// Package next says what a person can do next, as data: an action and what it is
// about. The client words it as a command, the console as a button; neither the
// core nor the service knows how either looks.
package next

// Action is one thing that a person can do next.
type Action struct {
	Do    Do     `json:"do" required:"true"`
	About string `json:"about,omitempty"`
	What  string `json:"what,omitempty"`
}

// With returns the action done with what has this name.
func (a Action) With(what string) Action {
	a.What = what
	return a
}

// Do names a kind of action. It is in the API and never changes.
type Do string

// The actions. Those that list take no name; Give names a field of what was sent.
const (
	ListUnmatched    Do = "list-unmatched"
	ListTrustGroups  Do = "list-trust-groups"
	ListAuthorities  Do = "list-authorities"
	ListChannels     Do = "list-channels"
	ListCredentials  Do = "list-credentials"
	ListDevices      Do = "list-devices"
	ListNoticeRules  Do = "list-notice-rules"
	ListParcels      Do = "list-parcels"
	ListPins         Do = "list-pins"
	ListProcedures   Do = "list-procedures"
	ListReplacements Do = "list-replacements"
	ListSigners      Do = "list-signers"
	ListSites        Do = "list-sites"
	ListSlots        Do = "list-slots"
	ListDiscoveries  Do = "list-discoveries"
	ListSessions     Do = "list-sessions"
	ListTasks        Do = "list-tasks"
	ListTokens       Do = "list-tokens"
	ListUsers        Do = "list-users"

	ShowTrustGroup  Do = "show-trust-group"
	ShowProcedure   Do = "show-procedure"
	ShowReplacement Do = "show-replacement"
	ShowSlot        Do = "show-slot"
	ShowTask        Do = "show-task"

	AcceptAnswer  Do = "accept-answer"   // that came for a replacement and is doubtful
	Approve       Do = "approve"         // a replacement
	Cancel        Do = "cancel"          // a replacement
	CloseNeither  Do = "close-neither"   // a held replacement, as serving whatever is served
	CloseNew      Do = "close-new"       // a held replacement, as serving the new certificate
	CloseOld      Do = "close-old"       // a held replacement, as serving the old certificate
	Clear         Do = "clear"           // what a replacement left on its device
	Resume        Do = "resume"          // a replacement
	ResumeAgain   Do = "resume-again"    // doing the last step again
	ResumeDone    Do = "resume-done"     // taking the last step as done
	ResumeNotDone Do = "resume-not-done" // taking the last step as not done
	Retry         Do = "retry"           // a replacement that went back, with what was signed for it
	Revert        Do = "revert"          // a replacement
	Replace       Do = "replace"         // a slot's certificate

	AddRoot           Do = "add-root"      // to what a trust group trusts
	AllowWeakKeys     Do = "allow-weak"    // by a policy for one device
	ChangeDevice      Do = "change-device" // its address, access, family or settings
	ChangeSite        Do = "change-site"
	Confirm           Do = "confirm" // that it is you, with a password or a code
	FinishTask        Do = "finish-task"
	GoOn              Do = "go-on"     // a replacement that waits for a go-ahead or a window
	KeepKeys          Do = "keep-keys" // by a policy
	PackParcel        Do = "pack-parcel"
	ReplaceCredential Do = "replace-credential"
	SetUpFactor       Do = "set-up-factor" // for signing in
	SignIn            Do = "sign-in"
	TakeIn            Do = "take-in" // the files that a signer sent
	TakeTask          Do = "take-task"
	TryDevice         Do = "try-device"

	Give   Do = "give"    // a field that is missing or wrong, by its name in the API
	OneWay Do = "one-way" // begin although a step cannot be undone
	Unseen Do = "unseen"  // begin although the slot cannot be read
)

// All are all actions.
var All = []Do{ListUnmatched, ListTrustGroups, ListAuthorities, ListChannels, ListCredentials, ListDevices,
	ListNoticeRules, ListParcels, ListPins, ListProcedures, ListReplacements, ListSigners, ListSites, ListSlots,
	ListDiscoveries, ListSessions, ListTasks, ListTokens, ListUsers,
	ShowTrustGroup, ShowProcedure, ShowReplacement, ShowSlot,
	ShowTask, AcceptAnswer, Approve, Cancel, Clear, CloseNeither, CloseNew, CloseOld, Resume, ResumeAgain, ResumeDone,
	ResumeNotDone, Retry,
	Revert, Replace, AddRoot, AllowWeakKeys, ChangeDevice, ChangeSite, Confirm, FinishTask, GoOn, KeepKeys, PackParcel,
	ReplaceCredential, SetUpFactor, SignIn, TakeIn, TakeTask, TryDevice, Give, OneWay, Unseen}

// On returns the action done to what has this name.
func (d Do) On(about string) Action { return Action{Do: d, About: about} }

// Enum returns the values of a Do, for descriptions of the API.
func (Do) Enum() []any {
	out := make([]any, len(All))
	for i, do := range All {
		out[i] = do
	}
	return out
}
