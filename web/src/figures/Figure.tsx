import { type ReactNode, useRef } from "react";
import { type AnyEvidence, declared } from "../api/methods";
import { useAuditContext } from "../frame/context";
import { save } from "../ui/csv";
import { heldAt } from "../ui/held";
import { ActionMenu } from "../ui/Menu";
import { Wide } from "../ui/Wide";

/** A figure with its downloads. `draw` gets the width there is. */
export function Figure(props: {
  name: string;
  alternative: string;
  draw: (width: number) => ReactNode;
  data: () => string;
  /** The arrays behind the drawing, each in open formats. */
  evidence?: AnyEvidence;
  /** Narrower than this the figure is scrolled sideways, not squeezed. */
  least?: number;
}) {
  const place = useRef<HTMLElement>(null);
  const { audit } = useAuditContext();
  const svg = () => place.current?.querySelector("svg") as SVGSVGElement;
  return (
    <figure ref={place} className="relative mt-4" aria-label={props.alternative}>
      <Wide least={props.least ?? 520}>{props.draw}</Wide>
      <div className="mt-1 flex justify-end">
        <ActionMenu
          label={`Download figure ${props.name}`}
          className="text-[12.5px] text-soft hover:text-act"
          actions={[
            {
              label: "Picture (SVG)",
              onChoose: () => save(`${props.name}.svg`, standalone(svg()), "image/svg+xml"),
            },
            { label: "Picture (PNG)", onChoose: () => savePng(`${props.name}.png`, svg()) },
            { label: "Data (CSV)", onChoose: () => save(`${props.name}.csv`, props.data()) },
            ...(props.evidence ? arraysOf(audit.id, props.evidence) : []),
          ]}
        >
          Download figure
        </ActionMenu>
      </div>
    </figure>
  );
}

const KINDS = ["parquet", "json"] as const;

/** The result's main array as a file, straight from the server. */
function arraysOf(audit: string, evidence: AnyEvidence) {
  const main = declared(evidence.method)?.main;
  return KINDS.map((kind) => ({
    label: `Data (${kind === "json" ? "JSON" : "Parquet"})`,
    onChoose: () => follow(`/api/audits/${audit}/evidence/${evidence.key}/arrays/${main}?kind=${kind}`),
  }));
}

function follow(address: string): void {
  const link = document.createElement("a");
  link.href = address;
  link.download = "";
  link.click();
}

const STYLED = [
  "fill",
  "stroke",
  "font-family",
  "font-size",
  "font-weight",
  "stroke-width",
  "stroke-dasharray",
  "opacity",
];

/** The drawing with its colours and type written into it, so that it stands without the page. */
function standalone(svg: SVGSVGElement): string {
  const copy = svg.cloneNode(true) as SVGSVGElement;
  const originals = [svg, ...svg.querySelectorAll("*")];
  [copy, ...copy.querySelectorAll("*")].forEach((element, place) => {
    const style = getComputedStyle(heldAt(originals, place));
    for (const name of STYLED) {
      const value = style.getPropertyValue(name);
      if (value) element.setAttribute(name, value);
    }
    for (const name of ["tabindex", "role", "class", "style"]) element.removeAttribute(name);
  });
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  return new XMLSerializer().serializeToString(copy);
}

function savePng(name: string, svg: SVGSVGElement): void {
  const { width, height } = svg.getBoundingClientRect();
  const picture = new Image();
  picture.onload = () => {
    const canvas = document.createElement("canvas");
    canvas.width = width * 2;
    canvas.height = height * 2;
    const brush = canvas.getContext("2d") as CanvasRenderingContext2D;
    brush.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--sheet");
    brush.fillRect(0, 0, canvas.width, canvas.height);
    brush.drawImage(picture, 0, 0, canvas.width, canvas.height);
    canvas.toBlob((blob) => blob && save(name, blob));
  };
  picture.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(standalone(svg))}`;
}

/** Text cut to about the width there is, whole in its title. */
export function Fitted(props: {
  x: number;
  y: number;
  width: number;
  children: string;
  anchor?: "start" | "end" | "middle";
  weight?: number;
  fill?: string;
  size?: number;
  /** Lines that pass behind do not cross the text. */
  halo?: boolean;
}) {
  const size = props.size ?? 13;
  const most = Math.max(3, Math.floor(props.width / (size * 0.54)));
  const cut = props.children.length > most;
  return (
    <text
      x={props.x}
      y={props.y}
      textAnchor={props.anchor}
      fontWeight={props.weight}
      fontSize={size}
      fill={props.fill ?? "var(--ink)"}
      dominantBaseline="central"
      {...(props.halo ? { stroke: "var(--sheet)", strokeWidth: 4, paintOrder: "stroke" } : {})}
    >
      {cut && <title>{props.children}</title>}
      {cut ? `${props.children.slice(0, most - 1)}…` : props.children}
    </text>
  );
}

/** What makes a drawn mark a button: pressed by pointer, Enter or space. */
export function pressable(label: string | undefined, onPress: (mark: SVGGElement) => void) {
  return {
    role: "button",
    tabIndex: 0,
    "aria-label": label,
    onClick: (event: React.MouseEvent<SVGGElement>) => onPress(event.currentTarget),
    onKeyDown: (event: React.KeyboardEvent<SVGGElement>) => {
      if (event.key !== "Enter" && event.key !== " ") return;
      event.preventDefault();
      onPress(event.currentTarget);
    },
  };
}
