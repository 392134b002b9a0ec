// A body by its type: as it looks, as text with colours, or as bytes.
import { useSignal } from "@preact/signals";
import { hexDump, isText, readable } from "../bytes";
import { size } from "../format";
import { Scrolled, Tabs } from "./basics";
import { Code } from "./code";
import { Picture, Preview } from "./preview";

const mostColoured = 400_000;

function Form({ text }: { text: string }) {
  return (
    <table class="wide">
      <caption class="unseen">Values of the form</caption>
      <thead>
        <tr>
          <th scope="col">Name</th>
          <th scope="col">Value</th>
        </tr>
      </thead>
      <tbody>
        {[...new URLSearchParams(text)].map(([name, value], i) => (
          <tr key={i}>
            <th scope="row">{name}</th>
            <td>
              <code>{value}</code>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

export function BodyView({ bytes, type, label }: { bytes: Uint8Array; type: string; label: string }) {
  const bare = (type.split(";")[0] ?? "").trim().toLowerCase();
  const names: Record<string, string> = {};
  if (bare === "text/html") names.page = "As a page";
  if (bare.startsWith("image/")) names.picture = "As a picture";
  if (bare === "application/x-www-form-urlencoded") names.form = "As a form";
  if (isText(type) || bare === "") names.text = "As text";
  names.bytes = "As bytes";
  const chosen = useSignal("");
  const shown = chosen.value in names ? chosen.value : (Object.keys(names)[0] as string);
  if (bytes.length === 0) return <p class="dimmed">It has no body.</p>;
  const text = () => new TextDecoder().decode(bytes);
  return (
    <div class="body">
      <div class="tools">
        <Tabs
          label={label}
          names={names}
          chosen={shown}
          choose={(name) => {
            chosen.value = name;
          }}
        />
        <span class="dimmed" title={`${bytes.length} bytes`}>
          {type || "no type"}, {size(bytes.length)}
        </span>
      </div>
      {shown === "page" && <Preview html={text()} label={`${label}, without its scripts and files`} />}
      {shown === "picture" && <Picture bytes={bytes} type={bare} label={label} />}
      {shown === "form" && <Form text={text()} />}
      {shown === "text" && (
        <Code label={label} kind={bare || "text/plain"} text={readable(text().slice(0, mostColoured), type)} />
      )}
      {shown === "bytes" && <Scrolled kind="bytes">{hexDump(bytes)}</Scrolled>}
    </div>
  );
}
