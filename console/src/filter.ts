// What is typed above the list of exchanges: words, of which each must hold. "404" and "4xx" are statuses, "post" is a
// method, "site:office" a site; any other stands in the target. A minus before a word turns it round.
import type { ExchangeRow } from "./api";

type Test = (row: ExchangeRow) => boolean;

const methods = new Set(["get", "head", "post", "put", "patch", "delete", "options"]);

function testOf(word: string): Test {
  if (word.startsWith("-") && word.length > 1) {
    const inner = testOf(word.slice(1));
    return (row) => !inner(row);
  }
  if (/^[0-9]{3}$/.test(word)) {
    const status = Number(word);
    return (row) => row.status === status || row.target.includes(word);
  }
  if (/^[1-5]xx$/.test(word)) {
    const hundred = Number(word[0]);
    return (row) => Math.floor(row.status / 100) === hundred;
  }
  if (methods.has(word)) return (row) => row.method.toLowerCase() === word;
  if (word.startsWith("site:")) return (row) => (row.site ?? "").toLowerCase().startsWith(word.slice(5));
  return (row) => row.target.toLowerCase().includes(word) || row.answered_by.toLowerCase().includes(word);
}

/** A test for rows; null: everything passes. */
export function parseFilter(text: string): Test | null {
  const tests = text.toLowerCase().split(/\s+/).filter(Boolean).map(testOf);
  if (tests.length === 0) return null;
  return (row) => tests.every((test) => test(row));
}
