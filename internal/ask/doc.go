// Package ask holds what one vendor wants for one product: the ask file, its checks and its approval.
package ask
