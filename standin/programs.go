package standin

import (
	"fmt"
	"strconv"
	"strings"
)

// WebServer is a program that reads a file in the manner of nginx: a few
// directives, blocks in braces, and an error for what it does not know.
func WebServer(file, title string) Program {
	known := " user worker_processes pid worker_connections multi_accept sendfile tcp_nopush types_hash_max_size server_tokens include default_type access_log error_log gzip listen server_name root index add_header expires autoindex keepalive_timeout client_max_body_size events http server location "
	return func(f *Files) (Service, error) {
		data, err := f.Read(file)
		if err != nil {
			return Service{}, err
		}
		s := Service{Headers: map[string]string{"Server": "webserver/1.22"}, Pages: map[string]string{}, Workers: 2, Text: string(data)}
		depth, words := 0, []string(nil)
		for n, line := range strings.Split(string(data), "\n") {
			for _, w := range tokens(line) {
				bad := func(format string, args ...any) (Service, error) {
					return Service{}, fmt.Errorf("[emerg] "+format+" in %s:%d", append(args, file, n+1)...)
				}
				switch w {
				case "}":
					if depth--; depth < 0 || len(words) > 0 {
						return bad(`unexpected "}"`)
					}
				case "{", ";":
					if len(words) == 0 {
						return bad("unexpected %q", w)
					}
					if !strings.Contains(known, " "+words[0]+" ") {
						return bad("unknown directive %q", words[0])
					}
					if w == "{" {
						depth++
					}
					if err := s.web(words); err != nil {
						return bad("%v", err)
					}
					words = nil
				default:
					words = append(words, w)
				}
			}
		}
		if depth != 0 || len(words) > 0 {
			return Service{}, fmt.Errorf("[emerg] unexpected end of file in %s", file)
		}
		s.Pages["/"] = "<title>" + title + "</title>\n"
		s.Pages["/bulletins/latest"] = title + ": water levels normal\n"
		return s, nil
	}
}

// tokens splits a line into words, quoted ones whole, and the marks ; { }.
func tokens(line string) (all []string) {
	word, quote := "", rune(0)
	end := func() {
		if word != "" {
			all, word = append(all, word), ""
		}
	}
	escaped := false
	for _, r := range line {
		switch {
		case escaped || quote != 0 && r != quote && r != '\\':
			word += string(r)
			escaped = false
		case r == '\\':
			escaped = true
		case quote != 0:
			quote = 0
			end()
		case r == '"' || r == '\'':
			quote = r
		case r == '#' && word == "":
			return all
		case strings.ContainsRune(";{}", r):
			end()
			all = append(all, string(r))
		case r == ' ' || r == '\t':
			end()
		default:
			word += string(r)
		}
	}
	end()
	return all
}

func (s *Service) web(words []string) error {
	value := strings.Join(words[1:], " ")
	switch words[0] {
	case "listen", "worker_connections":
		n, err := strconv.Atoi(strings.TrimSuffix(strings.Fields(value + " ?")[0], " default_server"))
		if err != nil || n < 1 || n > 65535 {
			return fmt.Errorf("invalid value %q in %q directive", value, words[0])
		}
		if words[0] == "listen" {
			s.Port = n
		}
	case "worker_processes":
		if n, err := strconv.Atoi(value); err == nil && n > 0 && n < 64 {
			s.Workers = n
		} else if value != "auto" {
			return fmt.Errorf("invalid number of arguments in %q directive", words[0])
		}
	case "server_tokens":
		if value == "off" {
			s.Headers["Server"] = "webserver"
		} else if value != "on" {
			return fmt.Errorf("invalid value %q in %q directive, it must be \"on\" or \"off\"", value, words[0])
		}
	case "add_header":
		if len(words) < 3 {
			return fmt.Errorf("invalid number of arguments in %q directive", words[0])
		}
		s.Headers[words[1]] = words[2]
	}
	return nil
}

// ShellServer is a program that reads a file in the manner of sshd_config.
func ShellServer(file string) Program {
	switches := " passwordauthentication permitemptypasswords x11forwarding usepam kbdinteractiveauthentication printmotd allowtcpforwarding pubkeyauthentication "
	others := " port permitrootlogin maxauthtries maxsessions logingracetime acceptenv subsystem allowgroups allowusers match banner clientaliveinterval include "
	return func(f *Files) (Service, error) {
		data, err := f.Read(file)
		if err != nil {
			return Service{}, err
		}
		s := Service{Banner: "SSH-2.0-ShellServer_9.2", Workers: 1, Text: string(data)}
		for n, line := range strings.Split(string(data), "\n") {
			words := strings.Fields(line)
			if len(words) == 0 || words[0][0] == '#' {
				continue
			}
			key := strings.ToLower(words[0])
			bad := func(what string) (Service, error) {
				return Service{}, fmt.Errorf("%s line %d: %s", file, n+1, what)
			}
			switch {
			case strings.Contains(switches, " "+key+" "):
				if len(words) < 2 || words[1] != "yes" && words[1] != "no" {
					return bad("Bad yes/no argument")
				}
			case !strings.Contains(others, " "+key+" "):
				return bad("Bad configuration option: " + words[0])
			case len(words) < 2:
				return bad("missing argument")
			case key == "port" || key == "maxauthtries" || key == "maxsessions":
				v, err := strconv.Atoi(words[1])
				if err != nil || v < 1 || v > 65535 {
					return bad("Bad number '" + words[1] + "'")
				}
				if key == "port" && s.Port == 0 {
					s.Port = v
				}
			}
		}
		return s, nil
	}
}

// Intake is a program with an INI file: it takes gauge readings in.
func Intake(file string) Program {
	return func(f *Files) (Service, error) {
		data, err := f.Read(file)
		if err != nil {
			return Service{}, err
		}
		s := Service{Workers: 1, Pages: map[string]string{}, Headers: map[string]string{}, Text: string(data)}
		values, section := map[string]string{}, ""
		for n, line := range strings.Split(string(data), "\n") {
			line = strings.TrimSpace(line)
			if line == "" || line[0] == ';' || line[0] == '#' {
				continue
			}
			if line[0] == '[' {
				section = strings.Trim(line, "[]")
				continue
			}
			key, value, ok := strings.Cut(line, "=")
			if !ok {
				return Service{}, fmt.Errorf("%s:%d: no = in %q", file, n+1, line)
			}
			values[section+"."+strings.TrimSpace(key)] = strings.TrimSpace(value)
		}
		for _, key := range []string{"intake.port", "intake.poll_seconds", "intake.max_gauges"} {
			v, err := strconv.Atoi(values[key])
			if err != nil || v < 1 {
				return Service{}, fmt.Errorf("%s: %s is %q; want a number from 1", file, key, values[key])
			}
			if key == "intake.port" {
				s.Port = v
			}
		}
		s.Pages["/health"] = fmt.Sprintf("taking readings every %s s from up to %s gauges\n", values["intake.poll_seconds"], values["intake.max_gauges"])
		return s, nil
	}
}
