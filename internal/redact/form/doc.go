// Package form opens files of all forms (texts in several encodings, containers, compressed files, captures of packets, records of
// browsers, pictures) for a Worker, which redacts or searches what stands in them, and closes them again in the same form.
package form
