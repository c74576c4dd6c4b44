// Package topics has the texts of catena help TOPIC.
package topics

// Topic is a page of catena help besides those of commands.
type Topic struct{ Name, Short, Text string } // without a text the program makes it

// All are the topics, in their order.
var All = []Topic{
	{"commands", "All commands", ""},
	{"flags", "The flags of every command", ""},
	{"where", "Choose devices by an expression: --where",
		`--where takes an expression over the fields of a device. Lists, orders and jobs take the same.

  --where 'model == "WX-40" && version < "3.2"'
  --where 'status in ["behind", "unsafe"] && "chamber-1" in groups'
  --where 'name matches "^gate-[12]$" or vendor contains "Harrow"'
  --where 'seen < now() - duration("24h")'
  --where 'meets(version, ">= 2.0, < 4")'

  ==  !=  <  <=  >  >=    versions compare in their maker's order
  &&  ||  not             also: and, or
  in, contains, startsWith, endsWith, matches (a regular expression, RE2)
  meets(VERSION, LIMITS)  all of the limits hold
  now(), duration("24h")  for seen and updated

The fields, which are the columns of --format csv and the words of --sort, too:

`},
	{"times", "How times and durations are written", `Durations: 90s, 10m, 2h, 1h30m.

--start says when a job starts:
  now                     at once; refused where no window of the site is open
  +2h                     after a while
  22:30                   at the next 22:30 by the site's clock (timezone:)
  2026-11-28T22:30:00Z    at that moment (RFC 3339)
  window                  when the next window opens, or now while one is open

Windows stand in site.yaml: {days: mon-fri, from: "22:00", to: "05:00"}. The days name the opening. Nothing
starts whose update and return are not forecast to end before the window closes.

Other places: --since takes 24h, a date, or RFC 3339; --fit 40m keeps what can be proven or returned by then.
`},
	{"patterns", "How devices and addresses are named",
		`A word that means devices is a name, an address, a serial number, or a pattern with *:
  cam-11    127.44.1.11    WX4-10011    "cam-*"    chamber-1 (a group)
Put patterns in quotes, so that the shell leaves them alone. A word that means no device is an
error.

Addresses of catena scan and of ranges: in site.yaml:
  10.20.4.17                one
  10.20.4.1-10.20.4.60      from, to
  10.20.5.0/26              a network; more than a /16 requires wide: true
  10.20.4.17:8080           with its port
  @addresses.txt            a file with one of these on each line
Ports are tried as usual for each protocol, or as ports: says: 8080, snmp:1161, modbus:5020.
`},
	{"trouble", "Problems: what Catena reports, what it means, what to do", ""},
	{"exit-codes", "The exit codes", `  0  done, all parked, or nothing to do
  1  an error
  2  wrong usage, or a bad file
  3  some devices failed or were returned; or the job was stopped, or its window
     closed
  4  some devices are stranded: they need hands
  5  refused before anything was touched

With 5 nothing was sent to any device. With 3 and 4 catena report says which devices, and what
to do.
`},
}
