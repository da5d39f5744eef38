package web

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/antchfx/htmlquery"
	"github.com/go-json-experiment/json/v1"

	"envask/internal/extract"
)

// mostLogins is how often a session is begun in one run: a device that throws us out each time is given up.
const mostLogins = 20

// enter logs in where a session is needed and there is none. round tells which session it is.
func (c *Client) enter(ctx context.Context) (round int, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.in {
		return c.logins, nil
	}
	if c.logins == mostLogins {
		return 0, fmt.Errorf("%w: the session expired %d times", ErrLogin, mostLogins)
	}
	switch c.set.Web.Login.Kind {
	case "form":
		err = c.byForm(ctx)
	case "token":
		err = c.byToken(ctx)
	}
	if err == nil {
		c.in = true
		c.logins++
	}
	return c.logins, err
}

// leave notes that a session is over, unless another has begun since. It says whether a new one can be begun.
func (c *Client) leave(round int) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.logins == round {
		c.in = false
	}
	k := c.set.Web.Login.Kind
	return k == "form" || k == "token"
}

// authorise puts the login into a request where it goes with each.
func (c *Client) authorise(req *http.Request) (done Done, err error) {
	done = func(bool, bool) {}
	login := &c.set.Web.Login
	switch login.Kind {
	case "basic", "bearer", "digest":
		text, told, err := c.set.Password()
		if err != nil {
			return nil, err
		}
		done = told
		switch login.Kind {
		case "basic":
			req.SetBasicAuth(login.User, text)
		case "bearer":
			req.Header.Set("Authorization", "Bearer "+text)
		default:
			c.digest.Password = text
		}
	case "token":
		if c.token != "" {
			name, value, _ := strings.Cut(login.Header, ": ")
			req.Header.Set(name, strings.ReplaceAll(value, "{token}", c.token))
		}
	}
	return done, nil
}

// expired reports whether an answer wants a login. A password that goes with each request is refused then.
func (c *Client) expired(res *Response, r Request) (bool, error) {
	kind := c.set.Web.Login.Kind
	switch {
	case res.Status == http.StatusUnauthorized && kind != "form" && kind != "token":
		res.Body.Close()
		if kind == "" {
			return false, fmt.Errorf("%w: the device wants a login (%s); give login: in the systems file", ErrLogin,
				strings.SplitN(res.Header.Get("Www-Authenticate"), " ", 2)[0])
		}
		return false, fmt.Errorf("%w (%s)", ErrLogin, http.StatusText(res.Status))
	case kind != "form" && kind != "token":
		return false, nil
	case res.Status == http.StatusUnauthorized:
		return true, nil
	case res.Status >= 200 && res.Status < 300 && kind == "form" && !r.Pages &&
		strings.HasPrefix(res.Header.Get("Content-Type"), "text/html"):
		begin, err := io.ReadAll(io.LimitReader(res.Body, maxLoginPage))
		if err != nil {
			return false, err
		}
		res.Body = rejoined{io.MultiReader(bytes.NewReader(begin), res.Body), res.Body}
		_, asks := formOf(begin, c.set.Web.Login.Path)
		return asks, nil
	}
	return false, nil
}

// rejoined is a body whose beginning was looked at.
type rejoined struct {
	io.Reader
	io.Closer
}

// maxLoginPage bounds what is read of a page with a login form, in bytes.
const maxLoginPage = 1 << 20

// formOf gives the hidden fields of the form of a page that asks for a password, which is where a device keeps what proves that a request
// is ours (CSRF). asks is false where no form does.
func formOf(page []byte, path string) (fields url.Values, asks bool) {
	doc, err := htmlquery.Parse(bytes.NewReader(page))
	if err != nil {
		return nil, false
	}
	for _, form := range htmlquery.Find(doc, "//form[.//input[@type='password']]") {
		fields = url.Values{}
		for _, in := range htmlquery.Find(form, ".//input[@type='hidden']") {
			if name := htmlquery.SelectAttr(in, "name"); name != "" {
				fields.Set(name, htmlquery.SelectAttr(in, "value"))
			}
		}
		asks = true
		if action := htmlquery.SelectAttr(form, "action"); action == path {
			break
		}
	}
	return fields, asks
}

// byForm fills in the login form: what it holds already goes along.
func (c *Client) byForm(ctx context.Context) error {
	login := &c.set.Web.Login
	res, err := c.follow(ctx, Request{Method: http.MethodGet, Target: login.Page, Pages: true})
	if err != nil {
		return err
	}
	page, err := io.ReadAll(io.LimitReader(res.Body, maxLoginPage))
	res.Body.Close()
	if err != nil {
		return err
	}
	fields, _ := formOf(page, login.Path)
	if fields == nil {
		fields = url.Values{}
	}
	text, done, err := c.set.Password()
	if err != nil {
		return err
	}
	for k, v := range login.Fields {
		fields.Set(k, strings.NewReplacer("{user}", login.User, "{password}", text).Replace(v))
	}
	worked, refused := false, false
	defer func() { done(worked, refused) }()
	res, err = c.follow(ctx, Request{Method: http.MethodPost, Target: login.Path, Body: []byte(fields.Encode()),
		Type: "application/x-www-form-urlencoded", Pages: true})
	if err != nil {
		return err
	}
	answer, err := io.ReadAll(io.LimitReader(res.Body, maxLoginPage))
	res.Body.Close()
	if err != nil {
		return err
	}
	_, asks := formOf(answer, login.Path)
	if refused = res.Status == 401 || res.Status == 403 || asks; refused {
		return fmt.Errorf("%w: the form is shown again (%d)", ErrLogin, res.Status)
	}
	if res.Status >= 400 {
		return fmt.Errorf("the login form answers %d %s", res.Status, http.StatusText(res.Status))
	}
	worked = true
	return nil
}

// byToken asks for a token, which then goes with each request.
func (c *Client) byToken(ctx context.Context) error {
	login := &c.set.Web.Login
	text, done, err := c.set.Password()
	if err != nil {
		return err
	}
	fields := map[string]string{}
	for k, v := range login.Fields {
		fields[k] = strings.NewReplacer("{user}", login.User, "{password}", text).Replace(v)
	}
	body, err := json.Marshal(fields)
	if err != nil {
		return err
	}
	worked, refused := false, false
	defer func() { done(worked, refused) }()
	c.token = ""
	res, err := c.follow(ctx, Request{Method: http.MethodPost, Target: login.Path, Body: body, Type: "application/json"})
	if err != nil {
		return err
	}
	answer, err := res.Whole()
	switch {
	case err != nil:
		return err
	case res.Status == 401 || res.Status == 403:
		refused = true
		return fmt.Errorf("%w (%d)", ErrLogin, res.Status)
	case res.Status >= 300:
		return fmt.Errorf("the login answers %d %s", res.Status, http.StatusText(res.Status))
	}
	err = c.takeToken(ctx, answer)
	worked = err == nil
	return err
}

func (c *Client) takeToken(ctx context.Context, answer *extract.Answer) error {
	token, ok, err := c.set.Web.Login.Token.First(ctx, answer)
	switch {
	case err != nil:
		return fmt.Errorf("the token: %w", err)
	case !ok || token == "" || strings.ContainsAny(token, "\r\n"):
		return fmt.Errorf("the answer to the login has no token at %s", c.set.Web.Login.Token.Text)
	}
	c.token = token
	return nil
}
