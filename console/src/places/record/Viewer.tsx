/** The pages of a document as pictures, with the words that values came from marked on them. */
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState, type MouseEvent, type ReactNode } from "react";
import { call, type Doc, type Evidence } from "../../api/call";
import { Problem } from "../../parts/bits";

interface Box {
  x0: number;
  y0: number;
  x1: number;
  y1: number;
}

export interface ViewerProps {
  sha256: string;
  evidence: Record<string, Evidence>;
  active: string;
  troubled: Set<string>;
  zoom: number;
  page: number;
  setPage: (page: number) => void;
  choose: (pointer: string) => void;
  take: ((text: string) => void) | null; // takes the words drawn over, while a value is edited
  bar: ReactNode;
}

export function Viewer(props: ViewerProps): ReactNode {
  const doc = useQuery({ queryKey: ["document", props.sha256], queryFn: () => call<Doc>("GET", `/api/documents/${props.sha256}`), staleTime: Infinity });
  const pages = useRef<HTMLDivElement>(null);
  const { active, page } = props;
  const place = props.evidence[active];
  const found = Boolean(doc.data);
  useEffect(() => {
    const mark = pages.current?.querySelector(".ev.on");
    if (mark instanceof HTMLElement) reveal(pages.current, mark);
  }, [active, place, found]);
  useEffect(() => {
    const paper = pages.current?.querySelector(`[data-page="${page}"]`);
    if (paper instanceof HTMLElement && pages.current && !pages.current.querySelector(`[data-page="${page}"] .ev.on`)) pages.current.scrollTop = paper.offsetTop - 10;
  }, [page, found]);
  return (
    <section className="viewer sheet" aria-label="Document">
      <div className="bar">
        {props.bar}
        <span style={{ flex: 1 }} />
        {doc.data && (
          <span>
            Page {page} of {doc.data.pages.length}
            {doc.data.pages[page - 1]?.part && `, ${doc.data.pages[page - 1]?.part ?? ""}`}
          </span>
        )}
      </div>
      {doc.error && <Problem error={doc.error} again={() => void doc.refetch()} />}
      <div className="pages" ref={pages}>
        {doc.data?.pages.map((each) => (
          <Paper key={each.number} {...props} paper={each} />
        ))}
      </div>
    </section>
  );
}

function reveal(scroller: HTMLElement | null, mark: HTMLElement): void {
  if (!scroller) return;
  const outer = scroller.getBoundingClientRect();
  const inner = mark.getBoundingClientRect();
  if (inner.top < outer.top + 30 || inner.bottom > outer.bottom - 30) scroller.scrollTop += inner.top - outer.top - outer.height / 3;
  if (inner.left < outer.left || inner.right > outer.right) scroller.scrollLeft += inner.left - outer.left - 60;
}

function Paper({ paper: page, sha256, evidence, active, troubled, zoom, choose, take }: ViewerProps & { paper: Doc["pages"][number] }): ReactNode {
  const [from, setFrom] = useState<{ x: number; y: number } | null>(null);
  const [drawn, setDrawn] = useState<Box | null>(null);
  const width = Number(page.width);
  const height = Number(page.height);
  const here = Object.entries(evidence).filter(([, each]) => each.page === page.number && each.box);
  const point = (event: MouseEvent<HTMLElement>): { x: number; y: number } => {
    const frame = event.currentTarget.getBoundingClientRect();
    return { x: ((event.clientX - frame.left) / frame.width) * width, y: ((event.clientY - frame.top) / frame.height) * height };
  };
  const share = (box: Box, pad = 0): Record<string, string> => ({
    left: `${((box.x0 - pad) / width) * 100}%`,
    top: `${((box.y0 - pad) / height) * 100}%`,
    width: `${((box.x1 - box.x0 + 2 * pad) / width) * 100}%`,
    height: `${((box.y1 - box.y0 + 2 * pad) / height) * 100}%`,
  });
  const end = (): void => {
    if (drawn && take) {
      const words = page.words.filter(({ box }) => {
        const [x, y] = [(Number(box[0]) + Number(box[2])) / 2, (Number(box[1]) + Number(box[3])) / 2];
        return x > drawn.x0 && x < drawn.x1 && y > drawn.y0 && y < drawn.y1;
      });
      if (words.length > 0) take(words.map((word) => word.text).join(" "));
    }
    setFrom(null);
    setDrawn(null);
  };
  return (
    <div
      className="paper"
      data-page={page.number}
      style={{ width: `${zoom * 100}%`, aspectRatio: `${width} / ${height}`, cursor: take ? "crosshair" : "default" }}
      onMouseDown={(event) => {
        if (!take) return;
        event.preventDefault();
        setFrom(point(event));
      }}
      onMouseMove={(event) => {
        if (!from) return;
        const to = point(event);
        setDrawn({ x0: Math.min(from.x, to.x), y0: Math.min(from.y, to.y), x1: Math.max(from.x, to.x), y1: Math.max(from.y, to.y) });
      }}
      onMouseUp={end}
      onMouseLeave={() => from && end()}
    >
      <img src={`/api/documents/${sha256}/pages/${page.number}/picture?dots=${zoom > 1.3 ? 160 : 110}`} alt={`Page ${page.number}`} loading="lazy" draggable={false} />
      {!take &&
        here.map(([pointer, each]) => {
          const [x0, y0, x1, y1] = (each.box ?? []).map(Number) as [number, number, number, number];
          const tone = `${pointer === active ? "on" : ""} ${troubled.has(pointer) ? "bad" : ""}`;
          return <button key={pointer} tabIndex={-1} className={`ev ${tone}`} style={share({ x0, y0, x1, y1 }, 1)} title={pointer.slice(1).replaceAll("/", " ").replaceAll("_", " ")} onClick={() => choose(pointer)} />;
        })}
      {drawn && <div className="drawn" style={share(drawn)} />}
    </div>
  );
}
