package libvirt

import (
	"errors"
	"fmt"
	"testing"

	"github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/assert"

	"andamio/internal/site"
)

// TestWhatTheDaemonSaysIsOfAClass has each sort of answer be of the class that says what whoever asked may do.
func TestWhatTheDaemonSaysIsOfAClass(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		err  error
		want site.Class
	}{
		{libvirt.Error{Code: uint32(libvirt.ErrNoDomain), Message: "no such machine"}, site.NotFound},
		{libvirt.Error{Code: uint32(libvirt.ErrStorageVolExist)}, site.Conflict},
		{libvirt.Error{Code: uint32(libvirt.ErrOperationTimeout)}, site.Transient},
		{libvirt.Error{Code: uint32(libvirt.ErrInternalError), Message: "internal error: the emulator ended"}, site.Conflict},
		{libvirt.Error{Code: uint32(libvirt.ErrInternalError), Message: "internal error: pool 'default' has asynchronous jobs running."}, site.Transient},
		{libvirt.Error{Code: uint32(libvirt.ErrOperationInvalid), Message: "it has asynchronous jobs running"}, site.Conflict},
		{libvirt.Error{Code: uint32(libvirt.ErrXMLError)}, site.Refused},
		{errors.New("broke off"), site.Transient},
		{&site.Error{Class: site.NotFound}, site.NotFound},
	} {
		got, _ := classify(fmt.Errorf("asked: %w", c.err))
		assert.Equal(t, c.want, got, "%v", c.err)
	}
	assert.True(t, is(fmt.Errorf("x: %w", libvirt.Error{Code: uint32(libvirt.ErrNoDomain)}), libvirt.ErrNoDomain))
	assert.False(t, is(errors.New("x"), libvirt.ErrNoDomain))
	assert.False(t, absent(nil))
}
