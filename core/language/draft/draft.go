// Package draft writes the first lines of a procedure for a new family of devices.
package draft

import (
	"strings"

	"freshseal/core/language/procedure"
)

// New returns a commented start for a new procedure over SSH, or over https. It passes the
// check.
func New(name, link string) (string, error) {
	start, ok := map[string]string{procedure.SSH: draft, procedure.HTTPS: webDraft}[link]
	if !ok {
		return "", procedure.Fault{Line: 1, Column: 1, What: "there is no draft for the link " + link,
			Instead: "take ssh or https"}
	}
	if !procedure.NameForm.MatchString(name) {
		return "", procedure.Fault{Line: 1, Column: 1, What: "“" + name + "” cannot be a procedure's name",
			Instead: "use small letters, digits and -"}
	}
	return strings.ReplaceAll(start, "NAME", name), nil
}

const draft = `# How one family of devices gets its certificate.
procedure: NAME
title: Gateway with certificate files, over SSH
about: |
  Say what these devices are, which right the user needs who signs in, and
  anything that an administrator must know before the first replacement.
links: [ssh]                                # how devices are reached: ssh, person

settings:                                   # what differs between devices of the family
  certificate: {kind: path, about: the file with the certificate, default: /etc/gate/tls/chain.pem}
  key_file:    {kind: path, about: the file with the private key, default: /etc/gate/tls/key.pem}
  test:        {kind: command, about: tests the configuration, default: gatectl test}
  reload:      {kind: command, about: makes the service read its files again, default: gatectl reload}

traits:
  key_types: [ecdsa-p256, rsa-2048]         # the usual one first
  restart_limit: 60s                        # how long the service may be away

steps:
  survey:                                   # looks, and changes nothing
    - run: "{{test}}"
      limit: 20s
      otherwise: the configuration is faulty before anything was changed; correct that first
  request:                                  # the device makes its key and request
    - use: key-and-request-by-openssl
  activate:                                 # put the new files in place and use them
    - file: key_file                        # whole or not at all; owner and mode of the old one
      holds: new_key
    - file: certificate
      holds: leaf_first                     # or leaf, intermediates, anchor, pkcs7, …
    - run: "{{test}}"
      undo: nothing                         # it changes nothing
    - run: "{{reload}}"
      undo: again                           # nothing to put back; done once more if something was undone
      repeat: safe                          # may be done again when nobody knows whether it was done
`

const webDraft = `# How one family of devices gets its certificate.
procedure: NAME
title: Box with a JSON interface
about: |
  Say what these devices are, which role the user needs who signs in, and
  anything that an administrator must know before the first replacement.
links: [https]                              # its web interface; the certificate that it shows is pinned

traits:
  key_types: [ecdsa-p256, rsa-2048]         # the usual one first
  restart_limit: 2m                         # how long the web pages may be away

session:                                    # done again each time that the interface is needed
  sign_in:
    - step: sign in
      http: POST /api/session
      json: {user: "{{web_user}}", password: "{{web_password}}"}
      capture: {token: {json: /token, secret: true}}
  headers: {X-Token: "{{token}}"}           # that each further call carries
  sign_out:
    - {step: sign out, http: DELETE /api/session}
  lost: {status: [401]}                     # how it answers to who is not signed in

steps:
  survey:                                   # looks, and changes nothing
    - {step: see that it answers, http: GET /api/state, expect: {status: 200}}
  look:                                     # what it says of its certificate: now, next (after a restart), previous
    - {step: ask which one is in use, http: GET /api/certificate, capture: {now: {json: /sha256}}}
  request:                                  # the device makes its key and request
    - step: make key and request
      http: POST /api/requests
      json: {name: "{{common_name}}", names: "{{names}}"}
      repeat: safe                          # a second request does no harm
      capture: {request: {json: /request}}
  activate:                                 # give it the certificate, and wait until it is in use
    - step: import the certificate
      http: PUT /api/certificate
      json: {certificate: "{{leaf_first}}"} # or leaf, intermediates, anchor, pkcs7, …
      capture: {task: {json: /task}}
      refused: {status: 422}                # the answer by which it says that it changed nothing
      undo:                                 # sent only where the new certificate is seen to be served
        {step: take the one from before, http: POST /api/certificate/previous, when: {wire: new}, repeat: safe}
    - step: wait until it is in use
      http: GET /api/tasks/{{task}}
      until: {json: {/state: "^done$"}}
      fails: {json: {/state: "^failed$"}}
      limit: 10m
`
