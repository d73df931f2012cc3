/** What happened on the time axis, and notes that people add. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useAddAnnotation, useDeleteAnnotation} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {Confirm} from '../../design/Confirm';
import {Field} from '../../design/Field';
import {day, words} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';

type Annotation = Schemas['Annotation'];
const List = styled.ul`
  list-style: none;
  margin: 0 0 ${space.s};
  padding: 0;
  max-height: 220px;
  overflow: auto;
  font-size: 13px;
  li {
    padding: 3px 0;
    overflow-wrap: anywhere;
  }
`;
const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: end;
  > :nth-child(2) {
    flex: 1;
  }
`;

export function NotesCard({tenant, domain, annotations}: {tenant: string; domain: string; annotations: Annotation[]}) {
  const add = useAddAnnotation(tenant);
  const drop = useDeleteAnnotation(tenant);
  const [text, setText] = useState('');
  const [date, setDate] = useState(new Date().toISOString().slice(0, 10));
  return (
    <Card title="Annotations" note="detected automatically, or added by you">
      {annotations.length === 0 && <Soft>None in this period.</Soft>}
      <List>
        {[...annotations].reverse().map((annotation) => (
          <li key={`${annotation.day}${annotation.kind}${annotation.text}${annotation.id ?? ''}`}>
            <b>{day(annotation.day)}</b> <Small>{words(annotation.kind)}</Small> {annotation.text}{' '}
            {annotation.by && <Small>{annotation.by}</Small>}
            {annotation.id != null && (
              <Confirm
                label="Delete"
                name={`Delete the annotation of ${day(annotation.day)}`}
                tone="link"
                title={`Delete the annotation of ${day(annotation.day)}?`}
                action="Delete"
                onConfirm={() => drop.mutate(annotation.id!)}
              >
                {annotation.text}
              </Confirm>
            )}
          </li>
        ))}
      </List>
      <Row>
        <Field label="Day" type="date" value={date} onChange={setDate} />
        <Field label="Note" value={text} onChange={setText} placeholder="Spring mailing sent" />
        <Button
          changes
          isDisabled={!text.trim() || add.isPending}
          onPress={() => add.mutate({day: date, text, domain}, {onSuccess: () => setText('')})}
        >
          Add
        </Button>
      </Row>
      {add.error && <Trouble error={add.error} />}
      {drop.error && <Trouble error={drop.error} />}
    </Card>
  );
}
