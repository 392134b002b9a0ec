// Bytes as people read them.

const printable = (byte: number): string => (byte >= 32 && byte < 127 ? String.fromCharCode(byte) : ".");

/** Lines of sixteen bytes: place, numbers, characters. */
export function hexDump(bytes: Uint8Array, most = 4096): string {
  const lines: string[] = [];
  for (let at = 0; at < Math.min(bytes.length, most); at += 16) {
    const part = [...bytes.subarray(at, Math.min(at + 16, bytes.length))];
    const numbers = part.map((byte) => byte.toString(16).padStart(2, "0"));
    const shown = `${numbers.slice(0, 8).join(" ")}  ${numbers.slice(8).join(" ")}`.padEnd(49);
    lines.push(`${at.toString(16).padStart(8, "0")}  ${shown} ${part.map(printable).join("")}`);
  }
  if (bytes.length > most) lines.push(`… and ${bytes.length - most} bytes more`);
  return lines.join("\n");
}

/** What went over the wire, with control characters shown. */
export function asSent(bytes: Uint8Array, most = 200_000): string {
  const text = new TextDecoder("utf-8").decode(bytes.subarray(0, most));
  // biome-ignore lint/suspicious/noControlCharactersInRegex: they are what is looked for
  const shown = text.replace(/\r\n/g, "⏎\n").replace(/[\u0000-\u0008\u000b-\u001f\u007f]/g, "�");
  return bytes.length > most ? `${shown}\n… and ${bytes.length - most} bytes more` : shown;
}

export function fromBase64(text: string): Uint8Array {
  const binary = atob(text);
  return Uint8Array.from(binary, (char) => char.charCodeAt(0));
}

export function toBase64(text: string): string {
  const bytes = new TextEncoder().encode(text);
  let binary = "";
  for (const byte of bytes) binary += String.fromCharCode(byte);
  return btoa(binary);
}

export const isText = (type: string): boolean =>
  /^text\/|json|xml|javascript|x-www-form-urlencoded|toml|yaml/.test(type.toLowerCase());

const deepestNesting = 128;

/** Whether JSON nests deeper than it is read anywhere; such a text is shown as it is. */
export function nestsTooDeep(text: string): boolean {
  let depth = 0;
  let inString = false;
  for (let at = 0; at < text.length; at++) {
    const c = text[at];
    if (inString) {
      if (c === "\\") at++;
      if (c === '"') inString = false;
    } else if (c === '"') inString = true;
    else if (c === "[" || c === "{") {
      if (++depth > deepestNesting) return true;
    } else if ((c === "]" || c === "}") && depth > 0) depth--;
  }
  return false;
}

/** JSON with one value on each line; anything else as it is. */
export function readable(text: string, type: string): string {
  if (!/json/.test(type) || nestsTooDeep(text)) return text;
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
