// Package patience lets limits of time stand still while a person is asked something.
package patience
