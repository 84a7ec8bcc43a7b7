package api

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"reflect"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"
)

// description is that document as it was made of the routes; a test keeps the two equal.
// Making it anew takes longer than all the rest of a start.
//
//go:embed openapi.json
var description []byte

// Description is the OpenAPI 3.1 document of all routes, as indented JSON.
func Description() ([]byte, error) {
	r := openapi31.NewReflector()
	r.Spec.Info.WithTitle("Fresh Seal").WithVersion(Version).
		WithDescription("Replaces the certificates of a fleet of devices. Errors are problem documents (RFC 9457).")
	r.Spec.SetHTTPBearerTokenSecurity("token", "", "a client's token, from POST /api/v1/session with client: true")
	r.Spec.SetAPIKeySecurity("cookie", cookieName, openapi.InCookie, "the console's session")
	r.DefaultOptions = append(r.DefaultOptions, jsonschema.InterceptNullability(notNull), jsonschema.InterceptDefName(defName))
	for _, route := range routes {
		op, err := r.NewOperationContext(route.method, route.path)
		if err != nil {
			return nil, err
		}
		op.SetSummary(route.summary)
		op.SetID(operationID(route))
		if route.in != nil {
			op.AddReqStructure(route.in)
		}
		op.AddRespStructure(route.out, func(u *openapi.ContentUnit) {
			u.HTTPStatus = route.status
			u.ContentType = route.media
		})
		op.AddRespStructure(Problem{}, func(u *openapi.ContentUnit) {
			u.IsDefault = true
			u.ContentType = "application/problem+json"
			u.Description = "what went wrong, why, and what to do next"
		})
		if !route.open {
			op.SetDescription("Needs the role " + string(route.needs()) + ".")
			op.AddSecurity("token")
			op.AddSecurity("cookie")
		}
		if err := r.AddOperation(op); err != nil {
			return nil, err
		}
	}
	text, err := r.Spec.MarshalJSON()
	if err != nil {
		return nil, err
	}
	return indent(text)
}

// notNull keeps lists and maps from being described as null: the API always
// sends them.
func notNull(p jsonschema.InterceptNullabilityParams) {
	if p.NullAdded && (p.Schema.HasType(jsonschema.Array) || p.Schema.HasType(jsonschema.Object)) {
		p.Schema.RemoveType(jsonschema.Null)
	}
}

// defName names a schema by its type alone: SlotList for page[fleet.Slot].
func defName(t reflect.Type, _ string) string {
	name := t.Name()
	if inner, ok := strings.CutPrefix(name, "page["); ok {
		name = strings.TrimSuffix(inner[strings.LastIndexAny(inner, "./")+1:], "]") + "List"
	}
	return strings.ToUpper(name[:1]) + name[1:]
}

func indent(text []byte) ([]byte, error) {
	var out bytes.Buffer
	err := json.Indent(&out, text, "", "  ")
	out.WriteByte('\n')
	return out.Bytes(), err
}

func operationID(r route) string {
	id := strings.ToLower(r.method)
	for _, part := range strings.FieldsFunc(strings.TrimPrefix(r.path, v1), func(c rune) bool { return strings.ContainsRune("/{}.-", c) }) {
		id += strings.ToUpper(part[:1]) + part[1:]
	}
	return id
}

func describe(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		c.Set(fiber.HeaderContentType, "application/json")
		return c.Send(description)
	}
}
