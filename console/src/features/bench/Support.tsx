/** What families of mail programs make of the HTML: what they do not support, where it stands, what to use instead. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable, type Column} from '../../design/DataTable';
import {plural} from '../../design/format';
import {Row, Stack} from '../../design/Stack';
import {placeOf} from './Findings';

type Construct = Schemas['UnsupportedConstruct'];

const Cell = styled.span`
  display: grid;
  min-width: 26ch;
  max-width: 60ch;
  white-space: normal;
`;
const WORDS = {no: 'not', part: 'partly'} as const;
const LEVELS = {no: 'fault', part: 'risk'} as const;

export function Support({support}: {support: Schemas['HtmlSupport']}) {
  const [device, setDevice] = useState('all');
  const families = support.families.filter((each) => device === 'all' || each.device === device);
  const rows = support.constructs.filter((each) => families.some((family) => family.key in each.support));
  const columns: Column<Construct>[] = [
    {
      name: 'Construct',
      value: (row) => row.title,
      show: (row) => (
        <Cell>
          {row.title}
          <Small>{row.instead}</Small>
        </Cell>
      ),
    },
    {name: 'Seen', value: (row) => row.count, number: true},
    ...families.map((family): Column<Construct> => ({
      name: family.short,
      value: (row) => row.support[family.key] ?? 'yes',
      show: (row) => {
        const level = row.support[family.key];
        return level ? <Tag level={LEVELS[level]}>{WORDS[level]}</Tag> : <Small>works</Small>;
      },
    })),
    {name: 'First place', value: (row) => (row.places[0] ? placeOf(row.places[0]) : '')},
  ];
  return (
    <Stack>
      <Row>
        <Choice
          label="Device"
          value={device}
          options={[
            {value: 'all', label: 'All devices'},
            {value: 'desktop', label: 'Desktop'},
            {value: 'phone', label: 'Phone'},
          ]}
          onChange={setDevice}
        />
        <Small>
          {plural(rows.length, 'construct')} that not every family supports, by our table of {support.dated}
        </Small>
      </Row>
      {rows.length === 0 ? (
        <Soft>Every family supports what the HTML uses.</Soft>
      ) : (
        <DataTable label="Support" columns={columns} rows={rows} id={(row) => row.key} file="support.csv" />
      )}
      <Small>
        {families.map((each) => `${each.short}: ${each.title[0]!.toLowerCase()}${each.title.slice(1)}`).join('; ')}
      </Small>
    </Stack>
  );
}
