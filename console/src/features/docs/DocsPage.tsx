/** The documentation: its pages on the left, one of them, and a search over all. */
import {useEffect, type ReactNode} from 'react';
import ReactMarkdown from 'react-markdown';
import {Link, NavLink, useLocation, useParams} from 'react-router';
import remarkGfm from 'remark-gfm';
import styled from 'styled-components';
import {Small} from '../../design/Card';
import {Field} from '../../design/Field';
import {Notice} from '../../design/Notice';
import {colour, font, narrow, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {anchorOf, docs, figures, headingsOf, searchDocs} from './docs';

const Page = styled.div`
  display: grid;
  grid-template-columns: 250px minmax(0, 1fr);
  gap: ${space.xl};
  align-items: start;
  nav {
    display: grid;
    gap: 2px;
    margin-top: ${space.m};
  }
  nav a {
    display: block;
    padding: 4px ${space.s};
    color: ${colour('soft')};
    text-decoration: none;
    border-left: 2px solid transparent;
  }
  nav a.active {
    color: ${colour('ink')};
    font-weight: 600;
    border-color: ${colour('rust')};
  }
  nav ul {
    list-style: none;
    margin: 0 0 ${space.s};
    padding-left: ${space.l};
    font-size: 13px;
  }
  ${narrow} {
    grid-template-columns: minmax(0, 1fr);
    nav {
      max-height: 30vh;
      overflow-y: auto;
      border: 1px solid ${colour('line')};
    }
  }
`;
const Text = styled.article`
  max-width: 92ch;
  line-height: 1.55;
  h1 {
    margin: 0 0 ${space.m};
  }
  h2,
  h3,
  h4 {
    margin: ${space.xl} 0 ${space.s};
    scroll-margin-top: ${space.m};
  }
  p,
  ul,
  ol {
    margin: 0 0 ${space.m};
  }
  code {
    font: 0.92em ${font.mono};
    background: color-mix(in srgb, ${colour('line')} 40%, transparent);
    padding: 1px 3px;
    border-radius: 3px;
    overflow-wrap: anywhere;
  }
  pre {
    overflow-x: auto;
    background: ${colour('sheet')};
    border: 1px solid ${colour('line')};
    padding: ${space.m};
    line-height: 1.4;
  }
  pre code {
    background: none;
    padding: 0;
    overflow-wrap: normal;
  }
  table {
    border-collapse: collapse;
    display: block;
    overflow-x: auto;
    margin-bottom: ${space.m};
  }
  th,
  td {
    border-bottom: 1px solid ${colour('line')};
    padding: 4px ${space.s};
    text-align: left;
    vertical-align: top;
  }
`;
const Hits = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: ${space.m};
  max-width: 92ch;
`;

export function DocsPage() {
  const {name = 'glossary'} = useParams();
  const {hash} = useLocation();
  const view = useView();
  const wanted = view.get('find');
  const doc = docs.find((each) => each.name === name);
  useEffect(() => {
    if (hash && !wanted) document.getElementById(decodeURIComponent(hash.slice(1)))?.scrollIntoView?.();
    else window.scrollTo?.(0, 0);
  }, [name, hash, wanted]);
  return (
    <Page>
      <div>
        <Field
          label="Search the documentation"
          type="search"
          value={wanted}
          onChange={(text) => view.set('find', text)}
        />
        <nav aria-label="Documentation">
          {docs.map((each) => (
            <div key={each.name}>
              <NavLink to={`/docs/${each.name}`}>{each.title}</NavLink>
              {each.name === name && !wanted && headingsOf(name).length > 1 && (
                <ul>
                  {headingsOf(name)
                    .slice(0, 30)
                    .map((heading) => (
                      <li key={heading.anchor}>
                        <Link to={`#${heading.anchor}`}>{heading.title}</Link>
                      </li>
                    ))}
                </ul>
              )}
            </div>
          ))}
        </nav>
      </div>
      {wanted ? (
        <Found text={wanted} />
      ) : doc ? (
        <Text>
          <ReactMarkdown remarkPlugins={[remarkGfm]} components={PARTS}>
            {doc.text}
          </ReactMarkdown>
        </Text>
      ) : (
        <Notice page title="Page not found">
          The documentation does not have a page “{name}”. <Link to="/docs/glossary">Open the glossary</Link>
        </Notice>
      )}
    </Page>
  );
}

function Found({text}: {text: string}) {
  const hits = searchDocs(text);
  if (hits.length === 0)
    return (
      <Notice page title="Nothing found">
        No section of the documentation has all of these words.
      </Notice>
    );
  return (
    <div>
      <h1>Documentation with “{text}”</h1>
      <Hits aria-label="Found in the documentation">
        {hits.map((hit) => (
          <li key={`${hit.doc}#${hit.anchor}`}>
            <Link to={`/docs/${hit.doc}#${hit.anchor}`}>
              <b>{hit.title}</b>
            </Link>{' '}
            <Small>{hit.docTitle}</Small>
            <div>{hit.line}</div>
          </li>
        ))}
      </Hits>
    </div>
  );
}

const textOf = (children: ReactNode): string =>
  Array.isArray(children)
    ? children.map(textOf).join('')
    : typeof children === 'object' && children && 'props' in children
      ? textOf((children.props as {children?: ReactNode}).children)
      : String(children ?? '');

const heading = (Tag: 'h2' | 'h3' | 'h4') =>
  function Heading({children}: {children?: ReactNode}) {
    return <Tag id={anchorOf(textOf(children))}>{children}</Tag>;
  };

/** Links between pages stay within the console; other files are left to the repository. */
function DocLink({href = '', children}: {href?: string; children?: ReactNode}) {
  const page = /^(?:\.\/)?([a-z-]+)\.md(#.*)?$/.exec(href);
  if (page) return <Link to={`/docs/${page[1]}${page[2] ?? ''}`}>{children}</Link>;
  if (href.startsWith('#')) return <Link to={href}>{children}</Link>;
  if (/^https?:/.test(href)) return <a href={href}>{children}</a>;
  return <>{children}</>;
}

/** Drawings are shown; screenshots of these very pages are left to the repository. */
const Figure = ({src = '', alt = ''}: {src?: string; alt?: string}) =>
  figures[src] ? <img src={figures[src]} alt={alt} style={{maxWidth: '100%'}} /> : null;

const PARTS = {a: DocLink, img: Figure, h2: heading('h2'), h3: heading('h3'), h4: heading('h4')};
