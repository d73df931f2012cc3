/** A chart as a file: the drawings inside an element as one SVG with all its colours, and that as PNG. */
import {download} from './csv';

const SVG = 'http://www.w3.org/2000/svg';
// What a drawing takes from style sheets and themes, and has to carry with it.
const CARRIED = [
  'fill', 'fill-opacity', 'stroke', 'stroke-width', 'stroke-dasharray', 'stroke-opacity', 'opacity',
  'font-family', 'font-size', 'font-weight', 'text-anchor', 'visibility', 'display',
]; // prettier-ignore
const LEAST = 40; // pixels; smaller drawings are signs beside the text
const HEAD = 30; // pixels for the title
const SCALE = 2; // of the PNG, for screens with twice the pixels

/** The SVG of what is drawn inside, with its title, the texts marked as part of the chart, and the colours as shown. */
export function chartSvg(inside: HTMLElement, title: string): string {
  const frame = inside.getBoundingClientRect();
  const colours = getComputedStyle(document.documentElement);
  const out = document.createElementNS(SVG, 'svg');
  const [width, height] = [Math.ceil(frame.width), Math.ceil(frame.height) + HEAD];
  out.setAttribute('width', String(width));
  out.setAttribute('height', String(height));
  out.setAttribute('viewBox', `0 0 ${width} ${height}`);
  const paper = document.createElementNS(SVG, 'rect');
  paper.setAttribute('width', '100%');
  paper.setAttribute('height', '100%');
  paper.setAttribute('fill', colours.getPropertyValue('--sheet').trim() || '#fff');
  out.append(paper, text(title, 4, 20, getComputedStyle(inside), '600'));
  for (const element of inside.querySelectorAll<HTMLElement>('[data-chart-text]')) {
    const at = element.getBoundingClientRect();
    const words = (element.textContent ?? '').trim();
    const swatch = element.querySelector('i');
    if (swatch) out.append(rectangle(swatch, frame));
    out.append(
      text(
        words,
        at.left - frame.left + (swatch ? swatch.getBoundingClientRect().width + 4 : 0),
        at.bottom - frame.top + HEAD - 4,
        getComputedStyle(element),
      ),
    );
  }
  for (const drawing of inside.querySelectorAll('svg')) {
    const at = drawing.getBoundingClientRect();
    if (drawing.parentElement?.closest('svg') || at.width < LEAST || at.height < LEAST / 2) continue;
    const copy = withStyles(drawing);
    copy.setAttribute('overflow', 'visible'); // letters are wider where the console's own font is missing
    copy.setAttribute('x', String(at.left - frame.left));
    copy.setAttribute('y', String(at.top - frame.top + HEAD));
    copy.setAttribute('width', String(at.width));
    copy.setAttribute('height', String(at.height));
    out.append(copy);
  }
  return new XMLSerializer().serializeToString(out);
}

/** The patch of colour in a legend. */
function rectangle(element: HTMLElement, frame: DOMRect): SVGElement {
  const at = element.getBoundingClientRect();
  const out = document.createElementNS(SVG, 'rect');
  out.setAttribute('x', String(at.left - frame.left));
  out.setAttribute('y', String(at.top - frame.top + HEAD));
  out.setAttribute('width', String(at.width));
  out.setAttribute('height', String(at.height));
  out.setAttribute('fill', getComputedStyle(element).backgroundColor);
  return out;
}

function text(words: string, x: number, y: number, style: CSSStyleDeclaration, weight = style.fontWeight): SVGElement {
  const element = document.createElementNS(SVG, 'text');
  element.textContent = words;
  element.setAttribute('x', x.toFixed(1));
  element.setAttribute('y', y.toFixed(1));
  element.setAttribute('fill', style.color);
  element.setAttribute('font-family', style.fontFamily);
  element.setAttribute('font-size', style.fontSize);
  element.setAttribute('font-weight', weight);
  return element;
}

function withStyles(drawing: SVGSVGElement): SVGSVGElement {
  const copy = drawing.cloneNode(true) as SVGSVGElement;
  const shown = [drawing, ...drawing.querySelectorAll('*')];
  const copies = [copy, ...copy.querySelectorAll('*')];
  shown.forEach((element, number) => {
    const style = getComputedStyle(element);
    const to = copies[number]!;
    to.removeAttribute('class');
    to.removeAttribute('style');
    for (const name of CARRIED) {
      const value = style.getPropertyValue(name);
      if (value) to.setAttribute(name, value);
    }
  });
  return copy;
}

export const downloadSvg = (name: string, svg: string) => download(`${name}.svg`, svg, 'image/svg+xml;charset=utf-8');

/** Draws the SVG to a PNG of twice its size. Rejects where the browser cannot. */
export async function downloadPng(name: string, svg: string): Promise<void> {
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg)}`;
  await image.decode();
  const canvas = document.createElement('canvas');
  canvas.width = image.width * SCALE;
  canvas.height = image.height * SCALE;
  canvas.getContext('2d')!.drawImage(image, 0, 0, canvas.width, canvas.height);
  const blob = await new Promise<Blob | null>((resolve) => canvas.toBlob(resolve, 'image/png'));
  if (!blob) throw new Error('The browser did not draw the chart');
  download(`${name}.png`, blob);
}
