package api

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"path"
	"reflect"
	"strings"

	"freshseal/contract"

	"github.com/gofiber/fiber/v3"
	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"
)

// description is that document as it was made of the routes; a test keeps the two equal.
// Making it again takes longer than all the rest of a start.
//
//go:embed openapi.json
var description []byte

// Description returns the OpenAPI 3.1 document of all routes, as indented JSON. Properties are described by comments,
// by type and property.
func Description(comments map[string]string) ([]byte, error) {
	r := openapi31.NewReflector()
	r.Spec.Info.WithTitle("Fresh Seal").WithVersion(contract.Version).
		WithDescription("Replaces the certificates of a fleet of devices. Errors are problem documents (RFC 9457).")
	r.Spec.SetHTTPBearerTokenSecurity("token", "", "a client's token, from POST /api/v1/session with client: true")
	r.Spec.SetAPIKeySecurity("cookie", cookieName, openapi.InCookie, "the console's session")
	r.DefaultOptions = append(r.DefaultOptions, jsonschema.InterceptNullability(notNull),
		jsonschema.InterceptDefName(defName), jsonschema.InterceptSchema(describeProperties(comments)))
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
		op.AddRespStructure(contract.Problem{}, func(u *openapi.ContentUnit) {
			u.IsDefault = true
			u.ContentType = "application/problem+json"
			u.Description = "what went wrong, why, and what to do next"
		})
		if !route.open {
			description := "Needs the role " + string(route.needs()) + "."
			if route.final {
				description += " Cannot be taken back: the password or a code must have been given just before, " +
					"and a token must have been made for it."
			}
			op.SetDescription(description)
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

// notNull stores lists and maps from being described as null: the API always
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

// describeProperties describes the properties of types by comments, and those of core by contract.Descriptions.
func describeProperties(comments map[string]string) func(jsonschema.InterceptSchemaParams) (bool, error) {
	return func(p jsonschema.InterceptSchemaParams) (stop bool, err error) {
		t := p.Value.Type()
		for t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if p.Processed && t.Kind() == reflect.Struct {
			describeFields(t, p.Schema, comments)
		}
		return false, nil
	}
}

func describeFields(t reflect.Type, schema *jsonschema.Schema, comments map[string]string) {
	for i := range t.NumField() {
		field := t.Field(i)
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		if field.Anonymous && name == "" {
			inner := field.Type
			for inner.Kind() == reflect.Pointer {
				inner = inner.Elem()
			}
			if inner.Kind() == reflect.Struct {
				describeFields(inner, schema, comments)
			}
			continue
		}
		text := contract.Descriptions[path.Base(t.PkgPath())+"."+t.Name()+"."+name]
		if strings.HasPrefix(t.PkgPath(), "freshseal/contract") {
			text = comments[t.Name()+"."+name]
		}
		if property, has := schema.Properties[name]; has && text != "" && property.TypeObject != nil {
			property.TypeObject.WithDescription(text)
		}
	}
}

func indent(text []byte) ([]byte, error) {
	var out bytes.Buffer
	err := json.Indent(&out, text, "", "  ")
	out.WriteByte('\n')
	return out.Bytes(), err
}

func operationID(r route) string {
	id := strings.ToLower(r.method)
	for _, part := range strings.FieldsFunc(strings.TrimPrefix(r.path, v1), func(c rune) bool {
		return strings.ContainsRune("/{}.-", c)
	}) {
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
