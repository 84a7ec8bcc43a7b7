package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"freshseal/core/judgement/notice"
)

// The headers of a webhook's call.
const (
	headerID        = "Fresh-Seal-Id"
	headerTime      = "Fresh-Seal-Time"      // seconds since 1970
	headerSignature = "Fresh-Seal-Signature" // sha256= and the HMAC (RFC 2104) of time, dot, body
)

func (c Channel) checkWebhook() error {
	if _, err := parseURL(c.URL); err != nil {
		return err
	}
	return checkPin(c.Pin)
}

// Signature returns what proves that a message came from who knows the key.
func Signature(key Secret, at string, body []byte) string {
	h := hmac.New(sha256.New, []byte(key))
	io.WriteString(h, at+".")
	h.Write(body)
	return "sha256=" + hex.EncodeToString(h.Sum(nil))
}

// webhook posts a message as JSON. Any answer of 2xx will do; nothing is followed.
func (s Sender) webhook(ctx context.Context, c Channel, key Secret, m notice.Message) error {
	to, err := parseURL(c.URL)
	if err != nil {
		return err
	}
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	at := strconv.FormatInt(s.Now().Unix(), 10)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "Fresh Seal")
	r.Header.Set(headerID, m.ID)
	r.Header.Set(headerTime, at)
	r.Header.Set(headerSignature, Signature(key, at, body))
	client := http.Client{
		Transport: &http.Transport{DialContext: s.Dial, TLSClientConfig: c.config(to.Hostname()),
			DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	answer, err := client.Do(r)
	if err != nil {
		var inner interface{ Unwrap() error }
		if errors.As(err, &inner) && inner.Unwrap() != nil {
			err = inner.Unwrap() // without the address, which may hold a secret
		}
		return err
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10))
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("it answers %s", answer.Status)
	}
	return nil
}
