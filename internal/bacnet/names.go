package bacnet

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"catena/internal/text"
)

// ObjectID identifies an object of a device: its type, and its number among those of the type
// (ASHRAE 135, 20.2.14).
type ObjectID struct {
	Type     uint16 // 0 to 1023
	Instance uint32 // 0 to 4194302; 4194303 is any
}

const (
	instanceBits = 22
	maxType      = 1<<10 - 1
	maxInstance  = 1<<instanceBits - 1
)

// AnyInstance is the number by which a device is asked for its own device object (15.5.2).
const AnyInstance = maxInstance

// Types of objects that the program itself names.
const (
	TypeDevice = 8
	TypeFile   = 10
)

// OwnDevice is the device object of whatever device is asked.
var OwnDevice = ObjectID{TypeDevice, AnyInstance}

func (o ObjectID) value() Value {
	return Value{Type: Object, Number: uint64(o.Type)<<instanceBits | uint64(o.Instance)}
}

// String is an object as in the standard's URIs: analog-value,3.
func (o ObjectID) String() string {
	for name, n := range objectTypes {
		if n == o.Type {
			return fmt.Sprintf("%s,%d", name, o.Instance)
		}
	}
	return fmt.Sprintf("%d,%d", o.Type, o.Instance)
}

// Property is a property of an object, or one element of it.
type Property struct {
	Of    ObjectID
	ID    uint32
	Index int // of an array: its element, from 1; 0: how many it has; -1: all of it
}

// Property returns a whole property of an object, by a name that the table of properties has.
func (o ObjectID) Property(name string) Property { return Property{o, properties[name], -1} }

// String is a property as in the standard's URIs.
func (p Property) String() string {
	name := strconv.Itoa(int(p.ID))
	for known, n := range properties {
		if n == p.ID {
			name = known
		}
	}
	of := p.Of.String()
	if p.Of == OwnDevice {
		of = "device"
	}
	if p.Index >= 0 {
		return fmt.Sprintf("%s/%s/%d", of, name, p.Index)
	}
	return of + "/" + name
}

// ParseObject reads an object as in the standard's URIs (Q.8): analog-value,3 or 130,1. The device
// itself is device alone.
func ParseObject(s string) (ObjectID, error) {
	if s == "device" {
		return OwnDevice, nil
	}
	of, number, two := strings.Cut(s, ",")
	n, err := strconv.ParseUint(number, 10, 32)
	if !two || err != nil || n > maxInstance {
		return ObjectID{}, fmt.Errorf("%q is not an object; write device, or a type and a number: "+
			"analog-value,3", s)
	}
	if known, is := objectTypes[of]; is {
		return ObjectID{known, uint32(n)}, nil
	}
	t, err := strconv.ParseUint(of, 10, 16)
	if err != nil || t > maxType {
		return ObjectID{}, fmt.Errorf("%q is not a type of object%s; write its name in the standard, or "+
			"its number", of, meant(of, objectTypes))
	}
	return ObjectID{uint16(t), uint32(n)}, nil
}

// ParseProperty reads a property as in the standard's URIs (Q.8): device/firmware-revision,
// file,1/file-size, 130,1/512, or analog-value,3/priority-array/8.
func ParseProperty(s string) (Property, error) {
	parts := strings.Split(s, "/")
	if len(parts) < 2 || len(parts) > 3 {
		return Property{}, fmt.Errorf(
			"%q is not a property; write its object and its name, within { } in "+
				"quotes: device/firmware-revision, \"file,1/file-size\"",
			s,
		)
	}
	of, err := ParseObject(parts[0])
	if err != nil {
		return Property{}, err
	}
	p := Property{Of: of, Index: -1}
	if id, is := properties[parts[1]]; is {
		p.ID = id
	} else if n, err := strconv.ParseUint(parts[1], 10, 22); err == nil {
		p.ID = uint32(n)
	} else {
		return p, fmt.Errorf("%q is not a property%s; write its name in the standard, or its number",
			parts[1], meant(parts[1], properties))
	}
	if len(parts) == 3 {
		n, err := strconv.ParseUint(parts[2], 10, 16)
		if err != nil {
			return p, fmt.Errorf("%q is not the place of an element", parts[2])
		}
		p.Index = int(n)
	}
	return p, nil
}

// meant is the part of a message that names the nearest of some names; empty: none is near.
func meant[N any](word string, names map[string]N) string {
	if near := text.Nearest(word, slices.Sorted(maps.Keys(names))); near != "" {
		return " (did you mean " + near + "?)"
	}
	return ""
}

// objectTypes are the types of objects by their names (clause 21, BACnetObjectType).
var objectTypes = map[string]uint16{"analog-input": 0, "analog-output": 1, "analog-value": 2,
	"binary-input": 3, "binary-output": 4, "binary-value": 5, "calendar": 6, "command": 7,
	"device": TypeDevice, "file": TypeFile, "group": 11, "loop": 12, "multi-state-input": 13,
	"multi-state-output": 14, "notification-class": 15, "program": 16, "schedule": 17,
	"multi-state-value": 19, "trend-log": 20, "bitstring-value": 39, "characterstring-value": 40,
	"integer-value": 45, "octetstring-value": 47, "positive-integer-value": 48, "network-port": 56}

// Properties that the program itself reads (clause 21, BACnetPropertyIdentifier).
const (
	propSoftware       = 12
	propDescription    = 28
	propFileAccess     = 41
	propFileSize       = 42
	propFirmware       = 44
	propDate           = 56
	propTime           = 57
	propMaxAPDU        = 62
	propModel          = 70
	propObjectID       = 75
	propObjectName     = 77
	propSegmentation   = 107
	propStatus         = 112
	propVendor         = 121
	propConfiguration  = 154
	propMaxSegments    = 167
	propBackupState    = 338
	propBackupPrepare  = 339
	propRestorePrepare = 341
	propSerial         = 372
)

// properties are those that integrators use, by their names.
var properties = map[string]uint32{"acked-transitions": 0, "active-text": 4,
	"application-software-version": propSoftware, "archive": 13, "change-of-state-count": 15,
	"daylight-savings-status": 24, "description": propDescription, "device-type": 31,
	"elapsed-active-time": 33, "event-state": 36, "file-access-method": propFileAccess,
	"file-size": propFileSize, "file-type": 43, "firmware-revision": propFirmware, "inactive-text": 46,
	"local-date": propDate, "local-time": propTime, "location": 58,
	"max-apdu-length-accepted": propMaxAPDU, "model-name": propModel, "modification-date": 71,
	"number-of-states": 74, "object-identifier": propObjectID, "object-list": 76,
	"object-name": propObjectName, "object-type": 79, "out-of-service": 81, "present-value": 85,
	"priority-array": 87, "program-change": 90, "program-state": 92, "protocol-version": 98,
	"read-only": 99, "reliability": 103, "relinquish-default": 104, "state-text": 110,
	"status-flags": 111, "segmentation-supported": propSegmentation, "system-status": propStatus,
	"units": 117, "utc-offset": 119, "vendor-identifier": 120, "vendor-name": propVendor,
	"protocol-revision": 139, "record-count": 141, "configuration-files": propConfiguration,
	"database-revision": 155, "last-restore-time": 157, "max-segments-accepted": propMaxSegments,
	"last-restart-reason": 196, "time-of-device-restart": 203,
	"backup-and-restore-state": propBackupState, "backup-preparation-time": propBackupPrepare,
	"restore-completion-time": 340, "restore-preparation-time": propRestorePrepare,
	"serial-number": propSerial}
