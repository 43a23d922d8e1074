// Package others compares the engine with general-purpose policy libraries that run in the process: the same world, the
// same questions, the same answers. It is a module of its own, so that what it needs is no part of the product, and is built
// only when asked for: make others.
package others
