/** What the SPF record costs, term by term, and whom it lets send. */
import {Fragment} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable, type Column} from '../../design/DataTable';
import {colour, font} from '../../design/tokens';
import {words} from '../../design/format';

type Spf = Schemas['SpfPicture'];
type Node = Schemas['LookupNode'];
type Network = Schemas['AuthorisedNetwork'];

const Meter = styled.div`
  display: grid;
  grid-auto-flow: column;
  grid-auto-columns: 1fr;
  gap: 2px;
  max-width: 420px;
  margin-bottom: 10px;
  span {
    height: 10px;
    background: ${colour('line')};
  }
  span[data-used] {
    background: ${colour('sound')};
  }
  span[data-used='close'] {
    background: ${colour('tarnished')};
  }
  span[data-used='over'] {
    background: repeating-linear-gradient(135deg, ${colour('seized')} 0 3px, transparent 3px 5px);
  }
`;
const Tree = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0 0 0 2px;
  font: 12px/1.5 ${font.mono};
  overflow-wrap: anywhere;
  ul {
    list-style: none;
    margin: 0 0 0 8px;
    padding-left: 14px;
    border-left: 1px solid ${colour('line')};
  }
  li {
    padding: 2px 0;
  }
  li > div {
    display: flex;
    flex-wrap: wrap;
    gap: 2px 10px;
    align-items: baseline;
  }
  b {
    font-weight: 600;
  }
  i {
    font-style: normal;
    color: ${colour('soft')};
  }
`;

const PROBLEMS: Record<string, string> = {
  dead: 'no record',
  void: 'no such name',
  loop: 'includes itself',
  several: 'multiple records',
  many_mx: 'too many MX hosts',
  syntax: 'syntax error',
  failed: 'no response',
  not_held: 'not evaluated',
};

function Branch({nodes}: {nodes: Node[]}) {
  return (
    <>
      {nodes.map((node, i) => (
        <li key={i}>
          <div>
            <b>{node.term}</b>
            <i>{node.cost === 1 ? '1 lookup' : `${node.cost} lookups`}</i>
            {node.networks.length > 0 && (
              <i>
                {node.networks.slice(0, 4).join(' ')}
                {node.networks.length > 4 ? ` and ${node.networks.length - 4} more` : ''}
              </i>
            )}
            {node.problem && (
              <Tag
                level={
                  node.problem === 'failed' || node.problem === 'void'
                    ? 'risk'
                    : node.problem === 'not_held'
                      ? 'note'
                      : 'fault'
                }
              >
                {PROBLEMS[node.problem] ?? words(node.problem)}
              </Tag>
            )}
            {node.problem && node.detail && <Small>{node.detail}</Small>}
          </div>
          {node.children.length > 0 && (
            <ul>
              <Branch nodes={node.children} />
            </ul>
          )}
        </li>
      ))}
    </>
  );
}

export function SpfCard({spf}: {spf: Spf}) {
  const cells = Math.max(spf.limit, Math.min(spf.lookups, 30));
  const over = spf.lookups - spf.limit;
  const note =
    over > 0 ? `${spf.truncated ? 'at least ' : ''}${over} over the limit` : `${spf.limit - spf.lookups} left`;
  return (
    <Card
      title="SPF lookups"
      note={`${spf.lookups} of ${spf.limit}, ${note}${spf.voids ? `; ${spf.voids} void lookups` : ''}`}
    >
      <Meter role="img" aria-label={`${spf.lookups} of ${spf.limit} lookups`}>
        {Array.from({length: cells}, (_, i) => (
          <span
            key={i}
            data-used={i >= spf.lookups ? undefined : i >= spf.limit ? 'over' : spf.lookups >= 8 ? 'close' : 'yes'}
          />
        ))}
      </Meter>
      <Tree aria-label="Lookup tree">
        {spf.own_networks.length > 0 && (
          <li>
            <div>
              <b>the record itself</b>
              <i>no lookup</i>
              <i>
                {spf.own_networks.slice(0, 6).join(' ')}
                {spf.own_networks.length > 6 ? ` and ${spf.own_networks.length - 6} more` : ''}
              </i>
            </div>
          </li>
        )}
        <Branch nodes={spf.nodes} />
      </Tree>
    </Card>
  );
}

const columns: Column<Network>[] = [
  {
    name: 'Network',
    value: (row) => row.network,
    show: (row) => <code style={{font: `12px ${font.mono}`}}>{row.network}</code>,
  },
  {name: 'Authorised by', value: (row) => row.via.join(' > '), show: (row) => <Via via={row.via} />},
  {
    name: 'Remarks',
    value: (row) => [row.kind === 'public' ? '' : row.kind, row.wide ? 'too wide' : ''].filter(Boolean).join(', '),
    show: (row) => (
      <>
        {row.wide && <Tag level="risk">too wide</Tag>} {row.kind !== 'public' && <Small>{row.kind}</Small>}
      </>
    ),
  },
];

const Via = ({via}: {via: string[]}) => (
  <span style={{font: `12px ${font.mono}`}}>
    {via.map((term, i) => (
      <Fragment key={i}>
        {i > 0 && ' › '}
        {term}
      </Fragment>
    ))}
  </span>
);

export function SendersCard({spf, file}: {spf: Spf; file: string}) {
  const six = spf.ipv6_addresses ? ', and IPv6 networks' : '';
  const twice = spf.overlaps.length ? `; ${spf.overlaps.length} listed twice` : '';
  return (
    <Card title="Authorised senders" note={`${spf.ipv4_addresses.toLocaleString('en')} IPv4 addresses${six}${twice}`}>
      <DataTable
        label="Authorised networks"
        columns={columns}
        rows={spf.networks}
        id={(row) => row.network + row.via.join()}
        file={file}
      />
      {spf.overlaps.map((each, i) => (
        <p key={i} style={{fontSize: 13}}>
          <code>{each.inner}</code> ({each.inner_via.join(' › ')}) is inside <code>{each.outer}</code> (
          {each.outer_via.join(' › ')}).
        </p>
      ))}
      {spf.open_ended && (
        <Small>Terms that depend on the connection (macros, ptr, exists) may authorise further senders.</Small>
      )}
    </Card>
  );
}
