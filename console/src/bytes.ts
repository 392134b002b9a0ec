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

/** A body without its chunked coding (RFC 9112, section 7.1); null: it is broken off. */
export function withoutChunks(bytes: Uint8Array): Uint8Array | null {
  const parts: Uint8Array[] = [];
  for (let at = 0; ; ) {
    const end = bytes.indexOf(10, at);
    const size = Number.parseInt(String.fromCharCode(...bytes.subarray(at, Math.min(end, at + 20))), 16);
    if (end < 0 || Number.isNaN(size) || end + 1 + size > bytes.length) return null;
    if (size === 0) break;
    parts.push(bytes.subarray(end + 1, end + 1 + size));
    at = end + 1 + size;
    while (bytes[at] === 13 || bytes[at] === 10) at++;
  }
  const out = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0));
  let at = 0;
  for (const part of parts) {
    out.set(part, at);
    at += part.length;
  }
  return out;
}

/** Bytes as a text that can be edited and turned into the same bytes again; null: they are none. */
export interface EditableText {
  text: string;
  /** Lines end in CR LF, of which a field of a page keeps only the LF. */
  crlf: boolean;
}

export function editableText(bytes: Uint8Array): EditableText | null {
  let text: string;
  try {
    text = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(bytes);
  } catch {
    return null;
  }
  const crlf = text.includes("\r\n");
  const isMixed = crlf && /(^|[^\r])\n/.test(text);
  if (text.includes("\0") || isMixed || /\r(?!\n)/.test(text)) return null;
  return { text: crlf ? text.replaceAll("\r\n", "\n") : text, crlf };
}

export const bytesOfEdited = (edited: EditableText): string =>
  edited.crlf ? edited.text.replaceAll("\n", "\r\n") : edited.text;

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
