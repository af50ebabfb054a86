// Package chaos has many climbs go side by side through trouble: servers killed and stopped, the
// database restarted, links cut at any byte, scripts killed, disks full, hosts rebooted. A checker
// that shares no code with the engine reads hosts and database afterwards, and says what should
// never be. It is all in its tests.
package chaos
