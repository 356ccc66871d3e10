// Package api holds the contract of the service, openapi.yaml, and what is generated from it: the server's interface
// and models in gen, the Go client in client, and the console's types in web/src/api.gen.ts.
package api

//go:generate go tool oapi-codegen -config server.cfg.yaml openapi.yaml
//go:generate go tool oapi-codegen -config client.cfg.yaml openapi.yaml
