import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useClearance, useSuppression} from '../../api/queries';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {ago, words} from '../../design/format';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';
import {useView} from '../../shell/view';

type Entry = Schemas['SuppressionEntry'];
type Answer = Schemas['ClearanceAnswer'];

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 400px;
  gap: ${space.l};
  align-items: start;
  h1 { grid-column: 1 / -1; }
  @media (max-width: 1100px) { grid-template-columns: minmax(0, 1fr); }
`;
const Mono = styled.span`font: 12px ${font.mono};`;
const Reply = styled.span`display: block; font: 12px/1.35 ${font.mono}; white-space: normal; overflow-wrap: anywhere; min-width: 24ch;`;

export function SuppressionPage({who}: {who: Schemas['Who']}) {
  const view = useView();
  const tenant = view.tenant || who.tenants[0]!.slug;
  const [address, setAddress] = useState('');
  const asked = /.@.+\../.test(address) ? address : '';
  const list = useSuppression(tenant, asked);
  return (
    <Page>
      <h1>Suppression</h1>
      <Card title="The list" note="addresses that are not to be mailed, newest first">
        <Field label="Find an address" mono value={address} onChange={setAddress} placeholder="someone@tidepost.example" />
        <div style={{height: 8}} />
        {list.isPending && <Loading what="the list" />}
        {list.error && <Trouble error={list.error} />}
        {list.data?.items.length === 0 && (
          <Notice title={asked ? 'This address is not on the list' : 'Nobody is on the list'}>
            {asked ? 'It may be mailed.' : 'Bad addresses and complaints put people here by themselves.'}
          </Notice>
        )}
        {list.data && list.data.items.length > 0 && (
          <DataTable
            label="Suppression list"
            columns={[
              {name: 'Address', value: (row: Entry) => row.address, show: (row) => <Mono>{row.address}</Mono>},
              {name: 'Reason', value: (row) => words(row.reason)},
              {name: 'Since', value: (row) => row.since, show: (row) => ago(row.since)},
              {name: 'Times', value: (row) => row.times, number: true},
              {
                name: 'Evidence',
                value: (row) => row.evidence[0]?.diagnostic ?? '',
                show: (row) => <Evidence entry={row} />,
              },
            ]}
            rows={list.data.items}
            id={(row) => String(row.id)}
            file={`suppression-${tenant}.csv`}
          />
        )}
        {list.data?.next && <Small>The newest 200 are shown; `rustgauge suppression` gives all.</Small>}
      </Card>
      <Clearance tenant={tenant} />
    </Page>
  );
}

const Evidence = ({entry}: {entry: Entry}) => {
  const first = entry.evidence[0];
  return <Reply>{first?.diagnostic || (first ? `${first.kind}, ${first.stream || first.domain}` : '')}</Reply>;
};

function Clearance({tenant}: {tenant: string}) {
  const [text, setText] = useState('');
  const ask = useClearance(tenant);
  const addresses = text.split(/[\n,;]+/).map((each) => each.trim()).filter(Boolean);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (addresses.length) ask.mutate(addresses);
  };
  return (
    <Card title="May I mail these?" note="one address a line">
      <form onSubmit={submit} style={{display: 'grid', gap: 8, justifyItems: 'start'}}>
        <Field label="Addresses" lines={6} value={text} onChange={setText} style={{width: '100%'}} />
        <Button type="submit" tone="main" isDisabled={ask.isPending || addresses.length === 0}>
          {addresses.length > 1 ? `Ask for ${addresses.length} addresses` : 'Ask'}
        </Button>
      </form>
      {ask.error && <Trouble error={ask.error} />}
      {ask.data && (
        <div style={{marginTop: 12}}>
          <p>
            <b>{ask.data.held} held</b>, {ask.data.clear} clear.
          </p>
          <DataTable
            label="Answers"
            columns={[
              {name: 'Address', value: (row: Answer) => row.address, show: (row) => <Mono>{row.address}</Mono>},
              {
                name: 'Answer',
                value: (row) => row.verdict,
                show: (row) => <Tag level={row.verdict === 'held' ? 'fault' : 'right'}>{row.verdict}</Tag>,
              },
              {
                name: 'Why',
                value: (row) => row.why,
                show: (row) => <span style={{whiteSpace: 'normal', fontSize: 12}}>{row.why}</span>,
              },
            ]}
            rows={ask.data.answers}
            id={(row) => row.address}
            file="clearance.csv"
          />
        </div>
      )}
    </Card>
  );
}
