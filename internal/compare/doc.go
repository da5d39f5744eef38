// Package compare says what differs between two states of a site: rounds, archives, or folders of either. Files are new, gone
// or changed; of configuration it says what, key by key where the format has keys, line by line else; of the systems, which
// versions and facts are others.
package compare
