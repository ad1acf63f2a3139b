package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/accounts"
	"reshard/internal/wire"
)

type signInInput struct {
	Body struct {
		Name     string `json:"name" maxLength:"64"`
		Password string `json:"password" maxLength:"1024"`
		Kind     string `json:"kind,omitempty" enum:"session,token" default:"session" doc:"a cookie, or for programs"`
		Label    string `json:"label,omitempty" maxLength:"100" doc:"what the token is for"`
	}
	address string
}

// Resolve notes where a sign-in comes from; see behindProxy.
func (i *signInInput) Resolve(ctx huma.Context) []error {
	i.address = ctx.RemoteAddr()
	return nil
}

type passwordInput struct {
	Name string `path:"name"`
	Body struct {
		Password string `json:"password" minLength:"10" maxLength:"1024"`
		Present  string `json:"present,omitempty" maxLength:"1024" doc:"of one's own: the password until now"`
	}
	address string
}

// Resolve notes where it comes from.
func (i *passwordInput) Resolve(ctx huma.Context) []error {
	i.address = ctx.RemoteAddr()
	return nil
}

type signInOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      wire.Token
}

func (a *API) signInRoutes() {
	health := op("health", http.MethodGet, "/health", "Whether the service can work", "service")
	health.Security = []map[string][]string{}
	huma.Register(a.huma, health, func(ctx context.Context, _ *struct{}) (*answer[map[string]string], error) {
		ctx, done := context.WithTimeout(ctx, 3*time.Second) // whoever asks wants to know now
		defer done()
		if err := a.service.Healthy(ctx); err != nil {
			return nil, a.failed(err)
		}
		return &answer[map[string]string]{map[string]string{"status": "well"}}, nil
	})
	signIn := op("sign-in", http.MethodPost, "/sign-in", "Sign in", "users")
	signIn.Security = []map[string][]string{}
	huma.Register(a.huma, signIn, func(ctx context.Context, in *signInInput) (*signInOutput, error) {
		token, err := a.service.Accounts.SignIn(ctx, accounts.Attempt{
			Name: in.Body.Name, Password: in.Body.Password, Address: in.address, Kind: in.Body.Kind,
			Label: in.Body.Label,
		})
		if err != nil {
			return nil, a.failed(err)
		}
		out := &signInOutput{Body: token}
		if in.Body.Kind == "session" {
			// The console never sees the secret: it stays in the cookie. Secure is
			// left to whoever puts TLS in front; SameSite keeps other sites out.
			out.SetCookie = http.Cookie{
				Name:     cookieName,
				Value:    token.Secret,
				Path:     "/",
				Expires:  token.Expires,
				HttpOnly: true,
				SameSite: http.SameSiteStrictMode,
			}
			out.Body.Secret = ""
		}
		return out, nil
	})
	huma.Register(a.huma, op("sign-out", http.MethodPost, "/sign-out", "End this session or token", "users"),
		func(ctx context.Context, _ *struct{}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			secret, _ := ctx.Value(secretKey{}).(string)
			if err := a.service.Accounts.SignOut(ctx, secret); err != nil {
				return nil, a.failed(err)
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}{
				http.Cookie{
					Name:     cookieName,
					Path:     "/",
					Expires:  time.Unix(1, 0),
					HttpOnly: true,
					SameSite: http.SameSiteStrictMode,
				},
			}, nil
		})
	huma.Register(a.huma, op("me", http.MethodGet, "/me", "Who is signed in", "users"),
		func(ctx context.Context, _ *struct{}) (*answer[wire.User], error) {
			u, err := a.service.Accounts.Get(ctx, userOf(ctx))
			return &answer[wire.User]{u}, a.failed(err)
		})
	huma.Register(a.huma, op("list-users", http.MethodGet, "/users", "List users", "users"),
		func(ctx context.Context, _ *struct{}) (*answer[[]wire.User], error) {
			users, err := a.service.Accounts.List(ctx)
			return &answer[[]wire.User]{users}, a.failed(err)
		})
	huma.Register(a.huma, op("add-user", http.MethodPost, "/users", "Add a user", "users"),
		func(ctx context.Context, in *struct {
			Body struct {
				Name     string `json:"name" minLength:"1" maxLength:"64"`
				Password string `json:"password" minLength:"10" maxLength:"1024"`
			}
		}) (*struct{}, error) {
			return nil, a.failed(a.service.Accounts.Add(ctx, in.Body.Name, in.Body.Password))
		})
	huma.Register(a.huma, op("remove-user", http.MethodDelete, "/users/{name}",
		"Remove a user with all of their sessions and tokens", "users"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
	}) (*struct{}, error) {
		return nil, a.failed(a.service.Accounts.Remove(ctx, in.Name, userOf(ctx)))
	})
	huma.Register(a.huma, op("set-password", http.MethodPut, "/users/{name}/password",
		"Set a user's password and end all of their sessions and tokens. Your own needs the current one", "users"),
		func(ctx context.Context, in *passwordInput) (*struct{}, error) {
			err := a.service.Accounts.SetPassword(ctx, accounts.NewPassword{
				Name: in.Name, Password: in.Body.Password, Present: in.Body.Present, By: userOf(ctx),
				Address: in.address,
			})
			if err == nil {
				a.log.Info("a password was set", "user", in.Name, "by", userOf(ctx))
			}
			return nil, a.failed(err)
		})
}
