// A recorded page as it looks: in a frame that runs no script and loads nothing.
//
// The frame inherits the policy of this page, which keeps it from loading anything and from inline styles too. Those are
// given back to it by hand here, since they are what the page looks like.
import { useEffect, useRef } from "preact/hooks";

const policy = (
  globalThis as { trustedTypes?: { createPolicy(name: string, rules: object): { createHTML(text: string): string } } }
).trustedTypes?.createPolicy("recorded-page", { createHTML: (text: string) => text });

/** Stands before the page, so that it loads nothing at all, not even from here. */
const policyOfPage =
  '<!doctype html><meta http-equiv="Content-Security-Policy" content="default-src \'none\'; img-src data:">';

function giveStyles(frame: HTMLIFrameElement): void {
  const inside = frame.contentDocument;
  const Sheet = (frame.contentWindow as (Window & { CSSStyleSheet: typeof CSSStyleSheet }) | null)?.CSSStyleSheet;
  if (!inside || !Sheet) return;
  const sheets: CSSStyleSheet[] = [];
  for (const style of inside.querySelectorAll("style")) {
    const sheet = new Sheet();
    sheet.replaceSync(style.textContent ?? "");
    sheets.push(sheet);
  }
  inside.adoptedStyleSheets = sheets;
  for (const element of inside.querySelectorAll<HTMLElement>("[style]"))
    element.style.cssText = element.getAttribute("style") ?? "";
}

export function Preview({ html, label }: { html: string; label: string }) {
  const frame = useRef<HTMLIFrameElement>(null);
  useEffect(() => {
    const element = frame.current;
    if (!element) return;
    const text = policyOfPage + html;
    element.srcdoc = policy ? policy.createHTML(text) : text;
  }, [html]);
  const isStyled = /<link\b[^>]*\bstylesheet\b/i.test(html);
  return (
    <>
      {isStyled && <p class="dimmed">Style sheets, scripts and pictures of other files are left out here.</p>}
      <iframe
        ref={frame}
        class="preview"
        title={label}
        sandbox="allow-same-origin"
        referrerpolicy="no-referrer"
        onLoad={(event) => giveStyles(event.currentTarget as HTMLIFrameElement)}
      />
    </>
  );
}

export function Picture({ bytes, type, label }: { bytes: Uint8Array; type: string; label: string }) {
  const image = useRef<HTMLImageElement>(null);
  useEffect(() => {
    const url = URL.createObjectURL(new Blob([bytes as BlobPart], { type }));
    if (image.current) image.current.src = url;
    return () => URL.revokeObjectURL(url);
  }, [bytes, type]);
  return <img ref={image} class="picture" alt={label} />;
}
