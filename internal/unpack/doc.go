// Package unpack reads archives (tar in the compressions that logs come in, and zip) in place, as a file system that can only be read.
// Everything that an archive says is taken for hostile: names, sizes, links, and what comes out of a compression.
package unpack
