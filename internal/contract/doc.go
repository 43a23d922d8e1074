// Package contract holds the models of the OpenAPI document, for whoever speaks it: the server, the
// client, and what answers for a file alone. They are written from the document (make generate).
package contract
