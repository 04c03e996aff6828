import { useRef, type ReactNode } from "react";

/** What a picture is drawn with is said by the page's styles; out of the page it has to carry that itself. */
const CARRIED = [
  "fill",
  "stroke",
  "stroke-width",
  "stroke-dasharray",
  "opacity",
  "font-size",
  "font-family",
  "font-weight",
];

function alone(svg: SVGSVGElement): string {
  const copy = svg.cloneNode(true) as SVGSVGElement;
  const [there, here] = [svg.querySelectorAll<SVGElement>("*"), copy.querySelectorAll<SVGElement>("*")];
  there.forEach((from, i) => {
    const style = getComputedStyle(from);
    CARRIED.forEach((name) => here[i]!.style.setProperty(name, style.getPropertyValue(name)));
  });
  const { width, height } = svg.viewBox.baseVal;
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("width", String(width));
  copy.setAttribute("height", String(height));
  const ground = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  ground.setAttribute("width", "100%");
  ground.setAttribute("height", "100%");
  ground.setAttribute("fill", getComputedStyle(document.documentElement).getPropertyValue("--sheet"));
  copy.prepend(ground);
  return new XMLSerializer().serializeToString(copy);
}

function save(href: string, name: string) {
  const link = document.createElement("a");
  link.href = href;
  link.download = name;
  link.click();
}

const asAddress = (svg: string) => `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg)}`;

/** At twice its size, so that it is sharp on paper. */
function png(svg: SVGSVGElement, name: string) {
  const { width, height } = svg.viewBox.baseVal;
  const image = new Image();
  image.onload = () => {
    const canvas = document.createElement("canvas");
    [canvas.width, canvas.height] = [2 * width, 2 * height];
    canvas.getContext("2d")!.drawImage(image, 0, 0, canvas.width, canvas.height);
    save(canvas.toDataURL("image/png"), name);
  };
  image.src = asAddress(alone(svg));
}

/** A drawing with what it says for those who don't see it, its words below, and itself as a file. */
export function Picture({
  name,
  wide,
  tall,
  says,
  caption,
  children,
}: {
  name: string;
  wide: number;
  tall: number;
  says: string;
  caption?: ReactNode;
  children: ReactNode;
}) {
  const svg = useRef<SVGSVGElement>(null);
  const file = name.toLowerCase().replaceAll(/\W+/g, "-");
  return (
    <figure style={{ margin: "10px 0 14px" }}>
      <svg
        ref={svg}
        viewBox={`0 0 ${wide} ${tall}`}
        width={wide}
        style={{ maxWidth: "100%", display: "block" }}
        role="img"
        aria-label={says}
      >
        {children}
      </svg>
      <figcaption className="soft small" style={{ display: "flex", gap: 12, flexWrap: "wrap" }}>
        <span>{caption}</span>
        <button className="plain" onClick={() => save(asAddress(alone(svg.current!)), `${file}.svg`)}>
          Picture as SVG
        </button>
        <button className="plain" onClick={() => png(svg.current!, `${file}.png`)}>
          as PNG
        </button>
      </figcaption>
    </figure>
  );
}
