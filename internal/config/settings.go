package config

import "time"

// Settings describes every setting, in the order in which a reader meets them; state is the directory that is used where none is named.
func Settings(state string) []Setting {
	return []Setting{
		{Name: "state", Usage: "directory of the records and keys", Default: state, Path: true, set: text(func(c *Config) *string { return &c.State }, nil)},
		{Name: "console", Usage: "address of the console and the API; HTTP is answered to this machine alone, HTTPS to everybody", Default: "127.0.0.1:8460", set: text(func(c *Config) *string { return &c.Console }, address)},
		{Name: "smb", Usage: "address of SMB", Default: ":4450", Instead: ":4450, with --demo 127.0.0.1:4450", set: text(func(c *Config) *string { return &c.SMB }, address)},
		{Name: "nfs", Usage: "address of NFS", Default: ":20490", Instead: ":20490, with --demo 127.0.0.1:20490", set: text(func(c *Config) *string { return &c.NFS }, address)},
		{Name: "portmap", Usage: "address of a port mapper, such as :111, for NFS 3 clients that are not told ports", Instead: "none", set: text(func(c *Config) *string { return &c.Portmap }, address)},
		{Name: "smb-over-quic", Usage: "address of SMB over QUIC, by UDP, such as :443, for networks that let nothing through to SMB's own port; experimental", Instead: "none", set: text(func(c *Config) *string { return &c.SMBOverQUIC }, address)},
		{Name: "metrics", Usage: "address for /metrics alone, without a token, such as 127.0.0.1:8461; the console's has it with a token at any rate", Instead: "none", set: text(func(c *Config) *string { return &c.Metrics }, address)},
		{Name: "console-name", Usage: "name or address by which browsers reach the console, besides loopback names and the addresses listened on", Many: true, set: texts(func(c *Config) *[]string { return &c.ConsoleNames }, nil)},
		{Name: "trusted-proxy", Usage: "address or network of a proxy before the console, which is believed for whom it asks", Many: true, Instead: "none", set: proxies},
		{Name: "tls-certificate", Usage: "file with the console's certificate and those between it and its authority (PEM); it is read again when it changes", Instead: "one that the service signs itself", Live: true, Path: true, set: text(func(c *Config) *string { return &c.Certificate }, nil)},
		{Name: "tls-key", Usage: "file with the key of the certificate (PEM)", Instead: "none", Live: true, Path: true, set: text(func(c *Config) *string { return &c.Key }, nil)},
		{Name: "tls-client-authority", Usage: "file with certificates (PEM) of who signs those of clients: a token is then taken only with such a certificate, except on this machine", Instead: "none", Live: true, Path: true, set: text(func(c *Config) *string { return &c.ClientAuthorities }, nil)},
		{Name: "volume-root", Usage: "directory of the host below which volumes may be", Many: true, Instead: "anywhere", Path: true, set: texts(func(c *Config) *[]string { return &c.VolumeRoots }, nil)},
		{Name: "lease", Usage: "how long an NFS 4 client that is not heard of keeps what it has open; for so long, after a restart, others wait", Default: "1m", set: during(func(c *Config) *time.Duration { return &c.Lease }, 5*time.Second, time.Hour)},
		{Name: "recount", Usage: "how long after it was last counted what is stored in a folder is counted again; 0 for never", Default: "24h", set: during(func(c *Config) *time.Duration { return &c.Recount }, 0, 0)},
		{Name: "keep", Usage: "for how long what was done and refused at the wire is kept; never more than 200,000 rows of it", Default: "90d", set: during(func(c *Config) *time.Duration { return &c.Keep }, time.Hour, 0)},
		{Name: "refuse-unrecorded", Usage: "serve nobody while nothing can be written down in the state directory, instead of going on by what was decided before", Switch: true, Default: "false", set: onOff(func(c *Config) *bool { return &c.RefuseUnrecorded })},
		{Name: "journal-hashes", Usage: "where to the hash of each row of the journal is sent: a file, syslog://HOST:PORT or syslog+tcp://HOST:PORT", Instead: "nowhere", set: text(func(c *Config) *string { return &c.JournalHashes }, nil)},
		{Name: "log-level", Usage: "from what on is logged: debug, info, warn or error", Default: "info", Live: true, set: text(func(c *Config) *string { return &c.LogLevel }, oneOf("debug", "info", "warn", "error"))},
		{Name: "log-format", Usage: "how it is logged to stderr: text or json", Default: "text", set: text(func(c *Config) *string { return &c.LogFormat }, oneOf("text", "json"))},
		{Name: "log-to", Usage: "where to it is logged: stderr, or journald with its fields", Default: "stderr", set: text(func(c *Config) *string { return &c.LogTo }, oneOf("stderr", "journald"))},
		{Name: "backup-to", Usage: "directory that backups are written to by themselves; one that is kept elsewhere", Instead: "nowhere", Path: true, set: text(func(c *Config) *string { return &c.BackupTo }, nil)},
		{Name: "backup-every", Usage: "how long after one the next backup is written", Default: "1d", set: during(func(c *Config) *time.Duration { return &c.BackupEvery }, 10*time.Minute, 0)},
		{Name: "backup-keep", Usage: "how many of those backups are kept", Default: "14", set: count(func(c *Config) *int { return &c.BackupKeep }, 1, 10000)},
		{Name: "backup-recipient", Usage: "public key of age (age1…) that those backups are sealed for", Many: true, Instead: "none: not sealed", set: texts(func(c *Config) *[]string { return &c.BackupRecipients }, recipient)},
		{Name: "announce", Usage: "interface on whose network the console, SMB and NFS are announced (DNS-SD, WS-Discovery), or all", Many: true, Instead: "none", set: texts(func(c *Config) *[]string { return &c.Announce }, nil)},
	}
}
