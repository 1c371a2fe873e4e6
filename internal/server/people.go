package server

import (
	"reflect"

	"redstart/internal/api"
	"redstart/internal/core/right"
	"redstart/internal/planning"
)

func (s *Server) peopleRoutes() []route {
	return []route{
		{method: "POST", path: "/api/session", summary: "Sign in with user and password or a one-time link",
			need: right.Nobody, handler: s.signIn, in: reflect.TypeFor[api.SignIn](), out: reflect.TypeFor[api.Person]()},
		call(s, "GET", "/api/session", "Who is signed in", right.Look,
			func(r *request, _ none) (api.Person, error) {
				return r.who, nil
			}),
		{method: "DELETE", path: "/api/session", summary: "Sign out", need: right.Look, handler: s.signOut},
		byPerson(call(s, "PUT", "/api/session/password", "Change one's own password", right.Look,
			func(r *request, in api.NewPassword) (none, error) {
				return none{}, s.Accounts.ChangePassword(r, r.who, in)
			})),
		call(s, "GET", "/api/users", "Who may sign in", right.Own, func(r *request, _ none) ([]api.User, error) {
			return s.Accounts.Users(r)
		}),
		byPerson(call(s, "POST", "/api/users", "Make a user", right.Own, func(r *request, in api.Account) (none, error) {
			return none{}, s.Accounts.Add(r, in)
		})),
		byPerson(call(s, "PUT", "/api/users/:name", "Change a user's rights or password", right.Own,
			func(r *request, in api.Account) (none, error) {
				in.Name = r.param("name")
				return none{}, s.Accounts.Set(r, in)
			})),
		byPerson(call(s, "DELETE", "/api/users/:name", "Remove a user", right.Own, func(r *request, _ none) (none, error) {
			return none{}, s.Accounts.Remove(r, r.param("name"))
		})),
		call(s, "GET", "/api/tokens", "API tokens: one's own, or everybody's for an owner", right.Look,
			func(r *request, _ none) ([]api.Token, error) {
				return s.Accounts.Tokens(r, r.who)
			}),
		byPerson(call(s, "POST", "/api/tokens", "Make an API token for oneself; it is shown once", right.Look,
			func(r *request, in api.ForToken) (api.NewToken, error) {
				return s.Accounts.AddToken(r, r.who, in)
			})),
		byPerson(call(s, "DELETE", "/api/tokens/:id", "Revoke an API token", right.Look,
			func(r *request, _ none) (none, error) {
				id, err := planning.Number(r.param("id"), "token")
				if err != nil {
					return none{}, err
				}
				return none{}, s.Accounts.RevokeToken(r, r.who, id)
			})),
	}
}
