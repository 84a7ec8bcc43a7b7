package procedure

import "strings"

// Draft is a commented start for a new procedure over SSH. It passes the check.
func Draft(name string) (string, error) {
	if !nameForm.MatchString(name) {
		return "", Fault{Line: 1, Column: 1, What: "“" + name + "” cannot be a procedure's name", Instead: "use small letters, digits and -"}
	}
	return strings.ReplaceAll(draft, "NAME", name), nil
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
      undo: again                           # nothing to put back; done again at the end of the way back
      repeat: safe                          # may be done again when nobody knows whether it was done
`
