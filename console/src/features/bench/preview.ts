/**
 * HTML of a stranger's message made fit for a frame: nothing in it runs, loads or leads anywhere.
 *
 * The frame has a sandbox without permissions and a policy of its own. What is taken out here would do nothing there; it
 * is taken out so that no single rule has to hold alone.
 */

const REMOVED = 'script, iframe, frame, frameset, object, embed, applet, base, link, meta, template, portal, noscript';
const LOADS = ['src', 'srcset', 'background', 'poster', 'data', 'action', 'formaction', 'ping', 'xlink:href'];
const POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; form-action 'none'; base-uri 'none'";

/** Without permissions: no script, no form, no window, no origin, no navigation by itself. */
export const SANDBOX = '';

export interface Shown {
  images: boolean;
  dark: boolean;
  /** Constructs that the family of mail programs does not support, such as `property float`; they are taken out. */
  without?: string[];
}

/** The document for `srcdoc`. Images are boxes of their size, with their alternative text. */
export function previewOf(html: string, {images, dark, without = []}: Shown): string {
  const page = new DOMParser().parseFromString(html, 'text/html');
  page.querySelectorAll(REMOVED).forEach((element) => element.remove());
  without.forEach((construct) => takeOut(page, construct));
  page.querySelectorAll('img').forEach((image) => image.replaceWith(boxOf(page, image, images)));
  page.querySelectorAll('*').forEach((element) => {
    for (const {name} of [...element.attributes]) {
      if (name.startsWith('on') || LOADS.includes(name)) element.removeAttribute(name);
    }
    const target = element.getAttribute('href');
    if (target !== null) {
      element.removeAttribute('href');
      element.setAttribute('title', target);
      element.setAttribute('data-link', '');
    }
  });
  const scheme = dark ? 'dark' : 'light';
  const head =
    `<meta http-equiv="Content-Security-Policy" content="${POLICY}">` +
    `<style>:root{color-scheme:${scheme}}[data-link]{cursor:help;text-decoration:underline}` +
    '[data-image]{display:inline-block;box-sizing:border-box;max-width:100%;border:1px dashed #888;overflow:hidden;' +
    'font:12px sans-serif;padding:2px;vertical-align:top}</style>';
  return `<!DOCTYPE html><html><head>${head}${page.head.innerHTML}</head>${page.body.outerHTML}</html>`;
}

/** What a family does not support is gone, as far as it stands in the elements themselves. */
function takeOut(page: Document, construct: string) {
  const [kind, name = ''] = construct.split(' ');
  if (kind === 'element' && /^[a-z]+$/.test(name)) page.querySelectorAll(name).forEach((element) => element.remove());
  if (kind !== 'property') return;
  const [property = '', value] = name.split(':');
  page.querySelectorAll<HTMLElement>('[style]').forEach(({style}) => {
    if (!value || style.getPropertyValue(property).includes(value)) style.removeProperty(property);
  });
}

function boxOf(page: Document, image: HTMLImageElement, shown: boolean): HTMLElement {
  const box = page.createElement('span');
  const size = (name: 'width' | 'height') => Number.parseInt(image.getAttribute(name) ?? '', 10);
  const [width, height] = [size('width'), size('height')];
  if (width === 1 || height === 1) return box; // counts opens
  box.setAttribute('data-image', '');
  box.textContent = image.getAttribute('alt') ?? (shown ? 'image without alternative text' : '');
  if (shown && width > 0) box.style.width = `${width}px`;
  if (shown && height > 0) box.style.height = `${height}px`;
  if (shown) box.style.background = '#88888830';
  return box;
}
