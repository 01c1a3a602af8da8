import { useIsFetching, useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { createPortal } from "react-dom";
import { api, got } from "../api/client";

/** What has a paper of its own. */
export type PaperKind = "invoice" | "credit_memo" | "deposit" | "payment_request" | "return";

/** Whether every paper of the page is there to be printed. */
export function usePapersReady(): boolean {
  return useIsFetching({ queryKey: ["paper"] }) === 0;
}

/**
 * The page of a document as it is mailed, for the printer: the server makes it, so that paper, mail and screen never
 * differ. In the page only when it is printed, with the styles it brings along and no others.
 */
export function PrintedPaper({ kind, id }: { kind: PaperKind; id: number }) {
  const host = useRef<HTMLDivElement>(null);
  const paper = useQuery({
    queryKey: ["paper", kind, id],
    queryFn: () => got(api.GET("/api/papers/{kind}/{id}", { params: { path: { kind, id } }, parseAs: "text" })),
  });
  const page = paper.data;
  useEffect(() => {
    if (host.current && page) {
      show(host.current, page);
    }
  }, [page]);
  return createPortal(<div ref={host} className="printed" aria-hidden="true" data-paper-of={id} />, document.body);
}

/** A page that stands alone, shown below an element: its body is that element. */
function show(host: HTMLElement, page: string): void {
  // Taken out before it is read: a style element, even of a page that is not shown, is against the content policy.
  const inline = /<style>([\s\S]*?)<\/style>/g;
  const styles = [...page.matchAll(inline)].map((found) => found[1]).join("\n");
  const read = new DOMParser().parseFromString(page.replaceAll(inline, ""), "text/html");
  const root = host.shadowRoot ?? host.attachShadow({ mode: "open" });
  const sheet = new CSSStyleSheet();
  sheet.replaceSync(styles.replaceAll("body{", ":host{"));
  root.adoptedStyleSheets = [sheet];
  root.replaceChildren(...[...read.body.childNodes].map((node) => document.importNode(node, true)));
}
