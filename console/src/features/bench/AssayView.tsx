/** One assay: its mark first, then what took off, then the message itself from every side. */
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small, Soft} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {count, plural} from '../../design/format';
import {Tabs} from '../../design/Tabs';
import {colour, font, space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {Authentication} from './Authentication';
import {Findings, placeOf} from './Findings';
import {MarkedSource} from './MarkedSource';
import {Preview} from './Preview';
import {Support} from './Support';

const Head = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.xl};
  align-items: baseline;
  strong {
    font-size: 34px;
    font-weight: 600;
    line-height: 1.1;
  }
`;
/** The mark as a bar: what is left of 100, and what each level took off. */
const Bar = styled.div`
  display: flex;
  height: 10px;
  margin: ${space.s} 0 ${space.m};
  border: 1px solid ${colour('line')};
  span {
    min-width: 0;
  }
`;
const Source = styled.pre`
  margin: 0;
  max-height: 560px;
  overflow: auto;
  font: 12px/1.5 ${font.mono};
  white-space: pre-wrap;
  overflow-wrap: anywhere;
`;
const TAKEN = {fault: 'seized', risk: 'tarnished', note: 'soft'} as const;

interface AssayProps {
  assay: Schemas['Assay'];
  /** Views that only a caught message has. */
  more?: {id: string; title: string; content: () => React.ReactNode}[];
  codes?: Schemas['FoundCode'][];
}

export function AssayView({assay, more = [], codes = []}: AssayProps) {
  const view = useView();
  const tab = view.get('part') || 'findings';
  const taken = (level: 'fault' | 'risk' | 'note') =>
    assay.findings.filter((each) => each.level === level).reduce((sum, each) => sum + each.points, 0);
  const levels = (['fault', 'risk', 'note'] as const).map((level) => ({level, points: taken(level)}));
  return (
    <Card title={assay.subject || '(no subject)'} note={assay.header_from}>
      <Head role="status">
        <span>
          <Soft>Mark </Soft>
          <strong>{assay.mark}</strong>
          <Soft> of 100</Soft>
        </span>
        {levels
          .filter(({level}) => assay.findings.some((each) => each.level === level))
          .map(({level, points}) => (
            <span key={level}>
              {plural(assay.findings.filter((each) => each.level === level).length, level)}{' '}
              <Soft>−{Math.round(points * 10) / 10}</Soft>
            </span>
          ))}
        {assay.findings.length === 0 && <span>No findings</span>}
        <Small>
          {count(assay.size)} octets; rules of {assay.rules_dated}
        </Small>
      </Head>
      <Bar aria-hidden>
        <span style={{width: `${assay.mark}%`, background: colour('sound')}} />
        {levels.map(({level, points}) => (
          <span key={level} style={{width: `${points}%`, background: colour(TAKEN[level])}} />
        ))}
      </Bar>
      {codes.length > 0 && (
        <p style={{margin: '0 0 8px'}}>
          <Small>Codes: </Small>
          {codes.slice(0, 3).map((each) => (
            <code key={each.code} title={each.context} style={{font: `13px ${font.mono}`, marginRight: 12}}>
              {each.code}
            </code>
          ))}
        </p>
      )}
      {assay.not_checked.map((each) => (
        <p key={each} style={{margin: '0 0 8px'}}>
          <Small>Not checked: {each}</Small>
        </p>
      ))}
      <Tabs
        label="Views of the message"
        value={tab}
        onChange={(value) => view.go('part', value === 'findings' ? '' : value)}
        tabs={[
          {id: 'findings', title: 'Findings', content: () => <Findings assay={assay} />},
          {id: 'authentication', title: 'Authentication', content: () => <Authentication assay={assay} />},
          {
            id: 'preview',
            title: 'Preview',
            content: () =>
              assay.html ? <Preview assay={assay} html={assay.html} /> : <Soft>The message has no HTML.</Soft>,
          },
          {
            id: 'support',
            title: 'Support',
            content: () =>
              assay.support ? <Support support={assay.support} /> : <Soft>The message has no HTML.</Soft>,
          },
          {
            id: 'text',
            title: 'Text',
            content: () =>
              assay.text === null ? <Soft>The message has no text part.</Soft> : <Source>{assay.text}</Source>,
          },
          {
            id: 'html',
            title: 'HTML source',
            content: () =>
              assay.html === null ? (
                <Soft>The message has no HTML.</Soft>
              ) : (
                <MarkedSource html={assay.html} support={assay.support ?? null} />
              ),
          },
          {id: 'header', title: 'Header', content: () => <Header fields={assay.fields} />},
          {id: 'parts', title: 'Parts', content: () => <Parts parts={assay.parts} />},
          {id: 'links', title: 'Links', content: () => <Links links={assay.links} />},
          ...more,
        ]}
      />
    </Card>
  );
}

const Wrapped = styled.span`
  white-space: normal;
  overflow-wrap: anywhere;
  font: 12px/1.5 ${font.mono};
`;

const Header = ({fields}: {fields: Schemas['MessageField'][]}) => (
  <DataTable
    label="Header"
    file="header.csv"
    rows={fields.map((field, at) => ({...field, at}))}
    id={(row) => String(row.at)}
    columns={[
      {name: 'Field', value: (row) => row.name},
      {name: 'Value', value: (row) => row.value, show: (row) => <Wrapped>{row.value}</Wrapped>},
      {
        name: 'Meaning',
        value: (row) => row.meaning ?? '',
        show: (row) => <Small style={{whiteSpace: 'normal'}}>{row.meaning}</Small>,
      },
    ]}
  />
);

const Parts = ({parts}: {parts: Schemas['MessagePart'][]}) => (
  <DataTable
    label="Parts"
    file="parts.csv"
    rows={parts}
    id={(row) => row.number}
    columns={[
      {
        name: 'Part',
        value: (row) => row.number,
        show: (row) => <span style={{paddingLeft: row.number.split('.').length * 12 - 12}}>{row.number}</span>,
      },
      {name: 'Type', value: (row) => row.type},
      {name: 'Octets', value: (row) => row.size, show: (row) => count(row.size), number: true},
      {name: 'Charset', value: (row) => row.charset ?? ''},
      {name: 'Encoding', value: (row) => row.encoding ?? ''},
      {name: 'File', value: (row) => row.file_name ?? ''},
    ]}
  />
);

const Links = ({links}: {links: Schemas['MessageLink'][]}) =>
  links.length === 0 ? (
    <Soft>The message has no links.</Soft>
  ) : (
    <DataTable
      label="Links"
      file="links.csv"
      rows={links.map((link, at) => ({...link, at}))}
      id={(row) => String(row.at)}
      columns={[
        {name: 'Kind', value: (row) => row.kind},
        {name: 'Text', value: (row) => row.text, show: (row) => <Wrapped>{row.text}</Wrapped>},
        {name: 'Target', value: (row) => row.url, show: (row) => <Wrapped>{row.url}</Wrapped>},
        {name: 'Host', value: (row) => row.host},
        {name: 'Place', value: (row) => placeOf(row.place)},
      ]}
    />
  );
