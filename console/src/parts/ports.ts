// Taking another port where one is taken.
import { call, type Finding, Refused, type SettingsText } from "../api";

export const takenPort = (finding: Finding): number =>
  finding.code === "port-taken" ? Number(/^Port (\d+)/.exec(finding.sentence)?.[1] ?? 0) : 0;

/** `text` of settings with `port` exchanged for `other` wherever an address is written. */
export function withOtherPort(text: string, port: number, other: number): string {
  let isInList = false;
  return text
    .split("\n")
    .map((line) => {
      const begins = /^\s*(addresses|console)\s*=/.test(line);
      const fits = begins || isInList;
      if (begins) isInList = line.includes("[") && !line.includes("]");
      else if (isInList && line.includes("]")) isInList = false;
      return fits ? line.replace(new RegExp(`(^|[^0-9])${port}(?![0-9])`, "g"), `$1${other}`) : line;
    })
    .join("\n");
}

/** Changes the settings to the next port that is free; that port. */
export async function takeNextPort(port: number): Promise<number> {
  for (let other = port + 1; other < port + 20 && other < 65536; ++other) {
    const now = await call<SettingsText>("/v1/settings");
    const text = withOtherPort(now.text, port, other);
    const changed = text === now.text ? `addresses = ["localhost:${other}"]\n${now.text}` : text;
    try {
      await call("/v1/settings", { method: "PUT", body: { text: changed, version: now.version } });
      return other;
    } catch (problem) {
      const isTaken = problem instanceof Refused && problem.findings.every((finding) => finding.code === "port-taken");
      if (!isTaken) throw problem;
    }
  }
  throw new Refused(409, [
    {
      code: "port-taken",
      sentence: `None of the twenty ports above ${port} is free.`,
      remedy: "Write another one into the settings.",
      text: "",
    },
  ]);
}
