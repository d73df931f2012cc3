/** Findings of an assay, the worst first: what is wrong, where, what it costs, what to do. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Small, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable, type Column} from '../../design/DataTable';
import {plural} from '../../design/format';
import {Row} from '../../design/Stack';
import {colour, font, space} from '../../design/tokens';

type Finding = Schemas['AssayFinding'];

const List = styled.ol`
  list-style: none;
  margin: ${space.m} 0 0;
  padding: 0;
  li {
    display: grid;
    grid-template-columns: 48px 40px minmax(0, 1fr);
    gap: 2px ${space.m};
    padding: 10px 0;
    border-top: 1px solid ${colour('line')};
  }
  li > div {
    grid-column: 3;
  }
  b {
    font-weight: 600;
  }
  code {
    font: 12px/1.5 ${font.mono};
    overflow-wrap: anywhere;
    color: ${colour('soft')};
  }
  @media (max-width: 600px) {
    li {
      grid-template-columns: auto 1fr;
    }
    li > div,
    li > b {
      grid-column: 1 / -1;
    }
  }
`;
const Points = styled.span`
  font-variant-numeric: tabular-nums;
  text-align: right;
`;

/** Where something was seen, in words; empty for the message as a whole. */
export function placeOf(place: Schemas['AssayPlace']): string {
  const name = {message: '', header: place.name, part: `part ${place.name}`, sending: 'sending'}[place.where];
  const line = place.line ? `line ${place.line}${place.column ? `, column ${place.column}` : ''}` : '';
  return [name, line].filter(Boolean).join(', ');
}

const COLUMNS: Column<Finding>[] = [
  {name: 'Level', value: (row) => row.level},
  {name: 'Points', value: (row) => row.points, number: true},
  {name: 'Group', value: (row) => row.group},
  {name: 'Finding', value: (row) => row.title},
  {name: 'Seen', value: (row) => row.count, number: true},
  {name: 'Place', value: (row) => (row.places[0] ? placeOf(row.places[0]) : '')},
  {name: 'Remedy', value: (row) => row.remedy},
];

export function Findings({assay}: {assay: Schemas['Assay']}) {
  const [group, setGroup] = useState('all');
  const [form, setForm] = useState('list');
  const groups = [...new Set(assay.findings.map((each) => each.group))];
  const shown = assay.findings.filter((each) => group === 'all' || each.group === group);
  return (
    <>
      <Row>
        <Choice
          label="Group"
          value={group}
          options={[
            {value: 'all', label: `All ${assay.findings.length}`},
            ...groups.map((each) => ({value: each, label: each[0]!.toUpperCase() + each.slice(1)})),
          ]}
          onChange={setGroup}
        />
        <Choice
          label="Show as"
          value={form}
          options={[
            {value: 'list', label: 'List'},
            {value: 'table', label: 'Table'},
          ]}
          onChange={setForm}
        />
      </Row>
      {form === 'table' ? (
        <DataTable label="Findings" columns={COLUMNS} rows={shown} id={(row) => row.rule} file="assay.csv" />
      ) : (
        <List aria-label="Findings">
          {shown.map((each) => (
            <li key={each.rule}>
              <span>
                <Tag level={each.level}>{each.level}</Tag>
              </span>
              <Points>{each.points ? `−${each.points}` : '0'}</Points>
              <b>
                {each.title}
                {each.count > 1 && <Small> {plural(each.count, 'time')}</Small>}
              </b>
              {each.places.slice(0, 3).map((place, i) => (
                <div key={i}>
                  <Small>{placeOf(place)} </Small>
                  <code>{place.text}</code>
                </div>
              ))}
              <div>{each.effect}</div>
              <div>
                <b>{each.remedy}</b> <Small>{each.reference}</Small>
              </div>
            </li>
          ))}
        </List>
      )}
    </>
  );
}
