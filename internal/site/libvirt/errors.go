package libvirt

import (
	"errors"
	"slices"
	"strings"

	"github.com/digitalocean/go-libvirt"

	"andamio/internal/site"
)

// classes are those of the daemon's errors (virErrorNumber); what is not here is refused.
var classes = map[libvirt.ErrorNumber]site.Class{
	libvirt.ErrNoDomain: site.NotFound, libvirt.ErrNoNetwork: site.NotFound, libvirt.ErrNoStorageVol: site.NotFound,
	libvirt.ErrNoStoragePool: site.NotFound, libvirt.ErrNoDomainMetadata: site.NotFound, libvirt.ErrDeviceMissing: site.NotFound,
	libvirt.ErrOperationInvalid: site.Conflict, libvirt.ErrOperationFailed: site.Conflict, libvirt.ErrDomExist: site.Conflict,
	libvirt.ErrNetworkExist: site.Conflict, libvirt.ErrStorageVolExist: site.Conflict, libvirt.ErrResourceBusy: site.Conflict,
	libvirt.ErrOperationTimeout: site.Transient, libvirt.ErrOperationAborted: site.Transient, libvirt.ErrSystemError: site.Transient,
	libvirt.ErrRPC: site.Transient, libvirt.ErrInternalError: site.Conflict, libvirt.ErrNoMemory: site.Conflict,
	libvirt.ErrAgentUnresponsive: site.Transient,
}

// passing are words of errors for which the daemon has no number of their own, and which are over by themselves: a pool is looked at by nobody while a volume is made in it.
var passing = []string{"has asynchronous jobs running"}

// classify is the class of an error, and what the daemon said.
func classify(err error) (site.Class, string) {
	var lost broken
	if errors.As(err, &lost) {
		return site.Transient, ""
	}
	var told libvirt.Error
	if errors.As(err, &told) {
		if libvirt.ErrorNumber(told.Code) == libvirt.ErrInternalError && slices.ContainsFunc(passing, func(words string) bool { return strings.Contains(told.Message, words) }) {
			return site.Transient, ""
		}
		if class, known := classes[libvirt.ErrorNumber(told.Code)]; known {
			return class, ""
		}
		return site.Refused, ""
	}
	return site.ClassOf(err), ""
}

// is reports that the daemon answered with an error of a number.
func is(err error, number libvirt.ErrorNumber) bool {
	var told libvirt.Error
	return errors.As(err, &told) && libvirt.ErrorNumber(told.Code) == number
}

// absent reports that the daemon has no such thing.
func absent(err error) bool {
	class, _ := classify(err)
	return err != nil && class == site.NotFound
}
