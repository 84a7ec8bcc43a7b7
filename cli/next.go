package cli

import (
	"strings"

	"freshseal/core/next"
)

// commands are the commands for the actions that the service names; %s stands for
// what an action is about.
var commands = map[next.Do]string{
	next.ListUnmatched: "unmatched list", next.ListTrustGroups: "trust-group list",
	next.ListAuthorities: "authority list", next.ListChannels: "channel list", next.ListNoticeRules: "notice rules",
	next.ListCredentials: "credential list", next.ListDevices: "device list",
	next.ListParcels: "parcel list", next.ListPins: "pin list", next.ListProcedures: "procedure list",
	next.ListReplacements: "replacement list", next.ListSigners: "signer list",
	next.ListSites: "site list", next.ListSlots: "slot list", next.ListDiscoveries: "discover list",
	next.ListSessions: "session list",
	next.ListTasks:    "task list", next.ListTokens: "token list", next.ListUsers: "user list",

	next.ShowTrustGroup: "trust-group show %s", next.ShowProcedure: "procedure show %s",
	next.ShowReplacement: "replacement show %s",
	next.ShowSlot:        "slot show %s", next.ShowTask: "task show %s",

	next.AcceptAnswer: "replacement accept %s", next.Approve: "replacement approve %s",
	next.Cancel: "replacement cancel %s", next.Clear: "replacement clear %s", next.Resume: "replacement resume %s",
	next.ResumeAgain: "replacement resume %s --step repeat", next.ResumeDone: "replacement resume %s --step done",
	next.ResumeNotDone: "replacement resume %s --step not-done",
	next.CloseNew:      "replacement close %s --as new --reason …", next.CloseOld: "replacement close %s --as old " +
		"--reason …", next.CloseNeither: "replacement close %s --as neither --reason …",
	next.Retry: "replacement retry %s", next.Revert: "replacement revert %s",
	next.Replace: "replace %s",

	next.AddRoot: "trust-group add %s ROOT.pem", next.AllowWeakKeys: "policy set device/%s --weak-keys",
	next.ChangeDevice: "device edit %s",
	next.ChangeSite:   "site edit %s", next.FinishTask: "task answer %s", next.GoOn: "replacement go %s",
	next.KeepKeys:   "policy set SCOPE --keep-keys",
	next.PackParcel: "parcel pack --signer %s --out parcel.zip", next.ReplaceCredential: "credential replace %s",
	next.SignIn: "login URL", next.Confirm: "confirm", next.SetUpFactor: "factor add",
	next.TakeIn: "intake FILE…", next.TakeTask: "task take %s", next.TryDevice: "device try %s",
}

// otherFlags are the flags for fields whose flag has another name.
var otherFlags = map[string]string{"secret": "secret-file", "password": "password-file",
	"passphrase": "passphrase-file", "private_key": "key-file", "code": "code-file", "networks": "network",
	"console_idle_minutes": "console-idle", "client_idle_days": "client-idle", "confirm_minutes": "confirm"}

// Advice words what to do next: in words, then as commands or flags.
func Advice(say string, actions []next.Action) string {
	var parts []string
	for _, a := range actions {
		switch command, known := commands[a.Do]; {
		case a.Do == next.Give:
			flag, other := otherFlags[a.About]
			if !other {
				flag = strings.ReplaceAll(a.About, "_", "-")
			}
			parts = append(parts, "--"+flag)
		case a.Do == next.OneWay || a.Do == next.Unseen:
			parts = append(parts, "--"+string(a.Do))
		case a.Do == next.AddRoot && a.What != "":
			parts = append(parts, "freshseal trust-group add "+a.About+" --from-authority "+a.What)
		case known:
			parts = append(parts, "freshseal "+strings.ReplaceAll(command, "%s", a.About))
		}
	}
	switch {
	case len(parts) == 0:
		return say
	case say == "":
		return "see: " + strings.Join(parts, ", or: ")
	}
	return say + ": " + strings.Join(parts, ", or: ")
}
