// Values as people read them.

/** "412 B", "4.1 KiB", "3.0 MiB". */
export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`;
  const units = ["KiB", "MiB", "GiB", "TiB"];
  let value = bytes / 1024;
  let unit = 0;
  while (value >= 1023.95 && unit < units.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return `${value.toFixed(1)} ${units[unit]}`;
}

export const exactBytes = (bytes: number): string => `${bytes.toLocaleString("en")} bytes`;

/** A duration as the log has it: "0.8 ms", "350 ms", "12.5 s". */
export function duration(milliseconds: number): string {
  if (milliseconds < 99.95) return `${milliseconds.toFixed(1)} ms`;
  if (milliseconds < 9999.5) return `${Math.round(milliseconds)} ms`;
  return `${(milliseconds / 1000).toFixed(1)} s`;
}

/** "4 s", "12 min", "2 h 10 min", "1 day". */
export function span(seconds: number): string {
  const whole = Math.max(0, Math.floor(seconds));
  if (whole < 60) return `${whole} s`;
  const minutes = Math.floor(whole / 60);
  if (minutes < 60) return `${minutes} min`;
  const hours = Math.floor(minutes / 60);
  const days = Math.floor(hours / 24);
  if (days > 0) return days === 1 ? "1 day" : `${days} days`;
  return `${hours} h ${minutes % 60} min`;
}

export const ago = (time: number, now: number): string => {
  const seconds = (now - time) / 1000;
  return seconds < 2 ? "just now" : `${span(seconds)} ago`;
};

/** The time of the day, for rows that follow each other closely. */
export function clock(time: string): string {
  const date = new Date(time);
  return Number.isNaN(date.getTime()) ? "" : date.toTimeString().slice(0, 8);
}

/** A word as a shell takes it. */
export function shellWord(word: string): string {
  if (/^[\w%+,\-./:=@]+$/.test(word)) return word;
  return word.includes("'") && !/["$`\\!]/.test(word) ? `"${word}"` : `'${word.replaceAll("'", "'\\''")}'`;
}

const meanings: Record<number, string> = {
  0: "No response",
  100: "Continue",
  101: "Switching protocols",
  200: "OK",
  201: "Created",
  202: "Accepted",
  204: "No content",
  206: "Partial content",
  301: "Moved permanently",
  302: "Found",
  303: "See other",
  304: "Not modified",
  307: "Temporary redirect",
  308: "Permanent redirect",
  400: "Bad request",
  401: "Unauthorized",
  403: "Forbidden",
  404: "Not found",
  405: "Method not allowed",
  408: "Request timeout",
  409: "Conflict",
  410: "Gone",
  411: "Length required",
  412: "Precondition failed",
  413: "Content too large",
  414: "URI too long",
  415: "Unsupported media type",
  416: "Range not satisfiable",
  417: "Expectation failed",
  421: "Misdirected request",
  422: "Unprocessable content",
  429: "Too many requests",
  431: "Request header fields too large",
  500: "Internal server error",
  501: "Not implemented",
  502: "Bad gateway",
  503: "Service unavailable",
  504: "Gateway timeout",
  505: "HTTP version not supported",
};

export const meaning = (status: number): string => meanings[status] ?? "";

/** The colour of a status: by its hundred. */
export function tone(status: number): "good" | "notice" | "wrong" | "dimmed" {
  if (status >= 500 || status === 0) return "wrong";
  if (status >= 400) return "notice";
  return status >= 300 ? "dimmed" : "good";
}

/** The middle of a long path left out, its end kept. */
export function shortened(path: string, most: number): string {
  if (path.length <= most) return path;
  const tail = Math.ceil((most - 1) * 0.6);
  return `${path.slice(0, most - 1 - tail)}…${path.slice(-tail)}`;
}
