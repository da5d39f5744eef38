// Package bring looks at what a person brings: what a file is by its content, whether it is what an item expects, what a recording of a
// browser holds, when a picture was taken, and where in a picture to leave nothing to see. It reads files, and writes none but the
// blackened copy of a picture.
package bring
