package api

import (
	"fmt"
	"regexp"
	"strings"
	"sync"

	"github.com/getkin/kin-openapi/openapi3"

	"kettletarn/internal/core/model"
	"kettletarn/internal/schemas"
	"kettletarn/internal/service/ground"
)

// Document is the OpenAPI document of the API, made from the routes and the types of their bodies.
var Document = sync.OnceValue(func() *openapi3.T {
	doc := &openapi3.T{
		OpenAPI: "3.0.3",
		Info: &openapi3.Info{Title: "Kettle Tarn", Version: "1",
			Description: "The API of tarnd. docs/protocol.md explains what belongs together."},
		Servers: openapi3.Servers{{URL: Prefix}},
		Paths:   openapi3.NewPaths(),
		Components: &openapi3.Components{
			Schemas: openapi3.Schemas{},
			SecuritySchemes: openapi3.SecuritySchemes{
				"token":  {Value: openapi3.NewSecurityScheme().WithType("http").WithScheme("bearer")},
				"cookie": {Value: openapi3.NewSecurityScheme().WithType("apiKey").WithIn("cookie").WithName(cookie)},
			},
		},
	}
	for _, r := range routes {
		path := pathParameter.ReplaceAllString(r.path, "{$1}")
		item := doc.Paths.Value(path)
		if item == nil {
			item = &openapi3.PathItem{}
			doc.Paths.Set(path, item)
		}
		item.SetOperation(r.method, r.operation(doc.Components.Schemas))
	}
	if err := openapi3.NewLoader().ResolveRefsIn(doc, nil); err != nil {
		panic(err)
	}
	return doc
})

var pathParameter = regexp.MustCompile(`:(\w+)`)

func (r route) operation(components openapi3.Schemas) *openapi3.Operation {
	op := &openapi3.Operation{Summary: r.summary, OperationID: operationID(r), Responses: &openapi3.Responses{}}
	for _, name := range pathParameter.FindAllStringSubmatch(r.path, -1) {
		op.AddParameter(openapi3.NewPathParameter(name[1]).WithSchema(openapi3.NewStringSchema()))
	}
	for _, q := range r.query {
		p := openapi3.NewQueryParameter(q.name)
		if q.header {
			p = openapi3.NewHeaderParameter(q.name)
		}
		schema := &openapi3.Schema{Type: &openapi3.Types{q.kind}}
		for _, word := range q.words {
			schema.Enum = append(schema.Enum, word)
		}
		op.AddParameter(p.WithDescription(q.about).WithRequired(q.required).WithSchema(schema))
	}
	if r.body != nil {
		body := openapi3.NewRequestBody().WithRequired(true).WithJSONSchemaRef(schemas.Of(r.body, components))
		if r.bodyType != "" {
			body.Content[r.bodyType] = raw(r.bodyType)[r.bodyType]
		}
		op.RequestBody = &openapi3.RequestBodyRef{Value: body}
	} else if r.bodyType != "" {
		op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithContent(raw(r.bodyType))}
	}
	status, good := r.status, openapi3.NewResponse().WithDescription("Done")
	if status == 0 {
		status = 200
	}
	if r.answer != nil {
		good = good.WithJSONSchemaRef(schemas.Of(r.answer, components))
	} else if r.answerType != "" {
		good = good.WithContent(raw(r.answerType))
	}
	op.Responses.Set(fmt.Sprint(status), &openapi3.ResponseRef{Value: good})
	if r.answerType == binary {
		part := openapi3.NewResponse().WithDescription("The range that was asked for").WithContent(raw(binary))
		op.Responses.Set("206", &openapi3.ResponseRef{Value: part})
		op.Responses.Set("304", &openapi3.ResponseRef{Value: openapi3.NewResponse().WithDescription("The caller has it")})
	}
	details := schemas.Of(model.ProblemDetails{}, components)
	problem := openapi3.Content{"application/problem+json": openapi3.NewMediaType().WithSchemaRef(details)}
	failed := openapi3.NewResponse().WithDescription("A problem (RFC 9457)").WithContent(problem)
	op.Responses.Set("default", &openapi3.ResponseRef{Value: failed})
	op.Extensions = map[string]any{"x-right": string(r.right)}
	if r.right != ground.Anybody {
		token, cookie := openapi3.NewSecurityRequirement().Authenticate("token"), openapi3.NewSecurityRequirement().Authenticate("cookie")
		op.Security = openapi3.NewSecurityRequirements().With(token).With(cookie)
	}
	return op
}

func raw(contentType string) openapi3.Content {
	return openapi3.Content{contentType: openapi3.NewMediaType().WithSchema(openapi3.NewStringSchema().WithFormat("binary"))}
}

// operationID names a call after its method and path.
func operationID(r route) string {
	words := strings.FieldsFunc(r.method+" "+r.path, func(c rune) bool { return strings.ContainsRune(" /:-", c) })
	for i, w := range words {
		words[i] = strings.ToUpper(w[:1]) + strings.ToLower(w[1:])
	}
	words[0] = strings.ToLower(words[0])
	return strings.Join(words, "")
}
