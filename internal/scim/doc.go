// Package scim holds what the System for Cross-domain Identity Management says of users (RFC 7643, RFC 7644): their
// attributes, filters, changes and errors. It does nothing with them and reads and writes nowhere.
package scim
