// Package peers tries what Verimorph speaks against programs that others wrote, from Debian's packages, each started on loopback for a test: netconfd for NETCONF, net-snmp for
// SNMP, rsyslog and logger for syslog, nginx, curl, lftp, vsftpd and tftp for files. The OpenSSH programs are tried where SSH is.
package peers
