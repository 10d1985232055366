package smb

import (
	"errors"
	"fmt"

	"amber.example/gatekeeper/internal/files"
)

// Status is an NTSTATUS, MS-ERREF section 2.3.
type Status uint32

const (
	statusOK                     Status = 0x00000000
	statusPending                Status = 0x00000103
	statusNotifyCleanup          Status = 0x0000010b
	statusNotifyEnumDir          Status = 0x0000010c
	statusBufferOverflow         Status = 0x80000005
	statusNoMoreFiles            Status = 0x80000006
	statusNoMoreEntries          Status = 0x8000001a
	statusInvalidSID             Status = 0xc0000078
	statusInvalidInfoClass       Status = 0xc0000003
	statusStoppedOnSymlink       Status = 0x8000002d
	statusNotFound               Status = 0xc0000225
	statusPathNotCovered         Status = 0xc0000257
	statusReparseInvalid         Status = 0xc0000278
	statusBufferTooSmall         Status = 0xc0000023
	statusUnsuccessful           Status = 0xc0000001
	statusInvalidOplockProtocol  Status = 0xc00000e3
	statusDuplicateObjectID      Status = 0xc000022a
	statusInvalidOwner           Status = 0xc000005a
	statusInvalidSecurityDescr   Status = 0xc0000079
	statusInfoLengthMismatch     Status = 0xc0000004
	statusInvalidParameter       Status = 0xc000000d
	statusNoSuchFile             Status = 0xc000000f
	statusInvalidDeviceRequest   Status = 0xc0000010
	statusEndOfFile              Status = 0xc0000011
	statusMoreProcessingRequired Status = 0xc0000016
	statusAccessDenied           Status = 0xc0000022
	statusObjectNameInvalid      Status = 0xc0000033
	statusObjectNameNotFound     Status = 0xc0000034
	statusObjectNameCollision    Status = 0xc0000035
	statusObjectPathNotFound     Status = 0xc000003a
	statusObjectPathSyntaxBad    Status = 0xc000003b
	statusSharingViolation       Status = 0xc0000043
	statusEASNotSupported        Status = 0xc000004f
	statusFileLockConflict       Status = 0xc0000054
	statusLockNotGranted         Status = 0xc0000055
	statusRangeNotLocked         Status = 0xc000007e
	statusDeletePending          Status = 0xc0000056
	statusPrivilegeNotHeld       Status = 0xc0000061
	statusLogonFailure           Status = 0xc000006d
	statusPasswordExpired        Status = 0xc0000071
	statusAccountDisabled        Status = 0xc0000072
	statusPasswordMustChange     Status = 0xc0000224
	statusDiskFull               Status = 0xc000007f
	statusInsufficientResources  Status = 0xc000009a
	statusTooManyOpenedFiles     Status = 0xc000011f
	statusFileIsADirectory       Status = 0xc00000ba
	statusNotSupported           Status = 0xc00000bb
	statusNetworkNameDeleted     Status = 0xc00000c9
	statusNotSameDevice          Status = 0xc00000d4
	statusRetry                  Status = 0xc000022d
	statusBadNetworkName         Status = 0xc00000cc
	statusNotAReparsePoint       Status = 0xc0000275
	statusInvalidViewSize        Status = 0xc000001f
	statusInvalidHandle          Status = 0xc0000008
	statusRequestNotAccepted     Status = 0xc00000d0
	statusUnexpectedIOError      Status = 0xc00000e9
	statusIODeviceError          Status = 0xc0000185
	statusMediaWriteProtected    Status = 0xc00000a2
	statusDirectoryNotEmpty      Status = 0xc0000101
	statusNotADirectory          Status = 0xc0000103
	statusCancelled              Status = 0xc0000120
	statusCannotDelete           Status = 0xc0000121
	statusFileClosed             Status = 0xc0000128
	statusLogonTypeNotGranted    Status = 0xc000015b
	statusAccountExpired         Status = 0xc0000193
	statusFSDriverRequired       Status = 0xc000019c
	statusUserSessionDeleted     Status = 0xc0000203
	statusAccountLockedOut       Status = 0xc0000234
	statusSMBNoPreauthOverlap    Status = 0xc05d0000
)

func (s Status) Error() string { return fmt.Sprintf("NTSTATUS 0x%08x", uint32(s)) }

// failed says whether a response with this status carries the error body.
func (s Status) failed() bool { return s>>30 == 3 }

// statusOf turns what files says into what a client is told.
func statusOf(err error) Status {
	var s Status
	switch {
	case err == nil:
		return statusOK
	case errors.As(err, &s):
		return s
	}
	for _, c := range []struct {
		err    error
		status Status
	}{
		{files.ErrDenied, statusAccessDenied}, {files.ErrNotFound, statusObjectNameNotFound},
		{files.ErrPathNotFound, statusObjectPathNotFound}, {files.ErrExists, statusObjectNameCollision},
		{files.ErrIsDirectory, statusFileIsADirectory}, {files.ErrNotDirectory, statusNotADirectory},
		{files.ErrSharing, statusSharingViolation}, {files.ErrDeletePending, statusDeletePending},
		{files.ErrReadOnlyFile, statusCannotDelete}, {files.ErrNotEmpty, statusDirectoryNotEmpty},
		{files.ErrName, statusObjectNameInvalid}, {files.ErrNoSpace, statusDiskFull}, {files.ErrLimit, statusDiskFull}, {files.ErrGone, statusNetworkNameDeleted},
		{files.ErrLoop, statusObjectNameNotFound}, {files.ErrClosed, statusFileClosed}, {files.ErrLocked, statusFileLockConflict}, {files.ErrNotLocked, statusRangeNotLocked},
		{files.ErrAcross, statusNotSameDevice}, {files.ErrManyNames, statusAccessDenied}, {files.ErrBusy, statusRetry}, {files.ErrTooMany, statusTooManyOpenedFiles}, {files.ErrOwner, statusAccessDenied}, {files.ErrStale, statusFileClosed},
		{files.ErrIO, statusIODeviceError}, {files.ErrReadOnlyVolume, statusMediaWriteProtected}, {files.ErrNameTooLong, statusObjectNameInvalid}, {files.ErrNotSupported, statusNotSupported}, {files.ErrInvalid, statusInvalidParameter},
	} {
		if errors.Is(err, c.err) {
			return c.status
		}
	}
	return statusUnexpectedIOError
}
