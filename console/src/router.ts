// Where one is: #/VIEW/WHAT?NAME=VALUE. All that is chosen, filtered and open stands there.
import { signal } from "@preact/signals";

export interface Place {
  view: string;
  what: string;
  options: URLSearchParams;
}

function read(): Place {
  const [path = "", options = ""] = location.hash.replace(/^#\/?/, "").split("?", 2);
  const slash = path.indexOf("/");
  const view = slash < 0 ? path : path.slice(0, slash);
  let what = slash < 0 ? "" : path.slice(slash + 1);
  try {
    what = decodeURIComponent(what);
  } catch {
    // As it is written, then.
  }
  return { view: view || "sites", what, options: new URLSearchParams(options) };
}

export const place = signal<Place>(read());

export function followAddress(): void {
  place.value = read();
  addEventListener("hashchange", () => {
    place.value = read();
  });
}

/** The address of a view. */
export function to(view: string, what = "", options: Record<string, string | undefined> = {}): string {
  const words = new URLSearchParams();
  for (const [name, value] of Object.entries(options)) if (value) words.set(name, value);
  const text = words.toString();
  return `#/${view}${what ? `/${what.split("/").map(encodeURIComponent).join("/")}` : ""}${text ? `?${text}` : ""}`;
}

export function go(address: string): void {
  location.hash = address;
}

/** The present place with other options; it takes the place of this one in the history. */
export function withOptions(changes: Record<string, string | undefined>, what = place.value.what): void {
  const now = place.value;
  const options: Record<string, string | undefined> = { ...Object.fromEntries(now.options), ...changes };
  history.replaceState(null, "", to(now.view, what, options));
  place.value = read();
}
