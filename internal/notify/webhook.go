package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/engine"
)

// webhook posts alerts to a URL, signed as Standard Webhooks 1.0.0 says where a key is given.
type webhook struct{ config.Webhook }

func (*webhook) Name() string { return "webhook" }

// Send implements [Channel].
func (h *webhook) Send(ctx context.Context, m Message) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, h.URL, bytes.NewReader(body))
	if err != nil {
		return withoutURL(err)
	}
	for name, value := range h.Headers {
		req.Header.Set(name, value)
	}
	req.Header.Set("Content-Type", "application/json")
	if h.Token != nil {
		token, err := h.Token.Read(ctx)
		if err != nil {
			return fmt.Errorf("its token: %w", err)
		}
		req.Header.Set("Authorization", "Bearer "+token)
	}
	stamp := strconv.FormatInt(time.Now().Unix(), 10)
	req.Header.Set("Webhook-Id", m.ID)
	req.Header.Set("Webhook-Timestamp", stamp)
	if h.SignKey != nil {
		secret, err := h.SignKey.Read(ctx)
		if err != nil {
			return fmt.Errorf("its sign_key: %w", err)
		}
		key, err := signKey(secret)
		if err != nil {
			return err
		}
		req.Header.Set("Webhook-Signature", Sign(key, m.ID, stamp, body))
	}
	tls, err := engine.TLS{CAFile: h.CA}.Config()
	if err != nil {
		return err
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig, transport.DisableKeepAlives = tls, true
	client := http.Client{Transport: transport, CheckRedirect: func(to *http.Request, _ []*http.Request) error {
		return fmt.Errorf("it answered with a redirect to %s, which is not followed: write the last URL",
			shown(to.URL))
	}}
	resp, err := client.Do(req)
	if err != nil {
		return fmt.Errorf("%s: %w", h.shown(), withoutURL(err))
	}
	defer resp.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 300))
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("%s answered %s: %.200q", h.shown(), resp.Status, strings.TrimSpace(string(said)))
	}
	return nil
}

// Sign returns what the header webhook-signature holds.
func Sign(key []byte, id, stamp string, body []byte) string {
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.", id, stamp)
	mac.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
}

// signKey reads a key as the specification writes it ("whsec_" and base64), or as it stands.
func signKey(text string) ([]byte, error) {
	coded, ok := strings.CutPrefix(text, "whsec_")
	if !ok {
		return []byte(text), nil
	}
	key, err := base64.StdEncoding.DecodeString(coded)
	if err != nil {
		return nil, errors.New("the sign_key of the webhook begins with whsec_, and what follows is not base64")
	}
	return key, nil
}

// shown is a URL as it may be printed: secrets are often in its query or its login.
func shown(u *url.URL) string { return u.Scheme + "://" + u.Host + u.EscapedPath() }

func (h *webhook) shown() string {
	u, err := url.Parse(h.URL)
	if err != nil {
		return "the webhook"
	}
	return shown(u)
}

// withoutURL takes the URL out of an error of net/http.
func withoutURL(err error) error {
	if u := (*url.Error)(nil); errors.As(err, &u) {
		return u.Err
	}
	return err
}
