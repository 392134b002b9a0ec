// The key of this start of the server: it comes in the fragment of the page's URL, and is kept in the origin's storage.
const place = "porter-key";

/** Takes the key out of the address line, so that it does not stand there, in the history or in a bookmark. */
export function takeKeyFromAddress(): void {
  const found = /^#key=([0-9a-f]{64})$/.exec(location.hash);
  if (!found) return;
  localStorage.setItem(place, found[1] as string);
  history.replaceState(null, "", `${location.pathname}#/sites`);
}

export const key = (): string => localStorage.getItem(place) ?? "";

export function keepKey(fresh: string): void {
  localStorage.setItem(place, fresh);
}
