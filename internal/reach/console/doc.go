// Package console talks to command lines over a stream of bytes, as a person at a terminal does: it learns the prompt, types, answers
// pagers and questions, and gives what was printed as clean lines. It knows no network beyond the protocol of Telnet.
package console
