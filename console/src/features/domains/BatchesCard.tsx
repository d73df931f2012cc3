/** Many domains at once: a job that goes on by itself, with its progress, and results to take away. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {fetchBatchResults, useStartBatch} from './queries';
import {useJobs, useRunJob} from '../jobs/queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft} from '../../design/Card';
import {download, toCsv} from '../../design/csv';
import {Field} from '../../design/Field';
import {count, time} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {colour, space} from '../../design/tokens';

type Batch = Schemas['Job'];

const Row = styled.div`
  display: grid;
  grid-template-columns: 110px minmax(60px, 1fr) 150px auto;
  gap: ${space.m};
  align-items: center;
  padding: 6px 0;
  border-top: 1px solid ${colour('line')};
  font-size: 13px;
  progress {
    width: 100%;
    height: 8px;
    accent-color: ${colour('sound')};
  }
  > span:last-child {
    display: flex;
    gap: 10px;
  }
  @media (max-width: 700px) {
    grid-template-columns: 1fr;
  }
`;
const Form = styled.form`
  display: grid;
  gap: ${space.m};
  max-width: 560px;
  margin-top: ${space.m};
`;

export function BatchesCard({tenant}: {tenant: string}) {
  const batches = useJobs(tenant, 'batch');
  const start = useStartBatch(tenant);
  const run = useRunJob(tenant);
  const [text, setText] = useState('');
  const [trouble, setTrouble] = useState<unknown>();
  const wrong = start.error ?? run.error ?? batches.error ?? trouble;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    start.mutate(text.split(/[\s,;]+/).filter(Boolean), {onSuccess: () => setText('')});
  };
  const save = async (batch: Batch) => {
    try {
      const results = await fetchBatchResults(tenant, batch.id);
      const rows = results.flatMap((result) =>
        result.findings.length
          ? result.findings.map((each) => [
              result.name,
              each.level,
              each.rule,
              each.title,
              each.record ?? '',
              each.reference,
            ])
          : [[result.name, '', '', result.problem || 'no faults found', '', '']],
      );
      download(`batch-${batch.id}.csv`, toCsv(['domain', 'level', 'rule', 'what', 'publish', 'reference'], rows));
    } catch (error) {
      setTrouble(error);
    }
  };
  return (
    <Card title="Batch audit" note="audit many domains once, without adding them">
      {batches.data?.length === 0 && <Soft>No batches yet.</Soft>}
      {batches.data?.map((batch) => (
        <Row key={batch.id}>
          <span>
            Batch {batch.id} <Small>{time(batch.created_at)}</Small>
          </span>
          <progress value={batch.done} max={Math.max(1, batch.total)} aria-label={`Progress of batch ${batch.id}`} />
          <span>
            {batch.state}, {count(batch.done)} of {count(batch.total)}
          </span>
          <span>
            {(batch.state === 'running' || batch.state === 'waiting') && (
              <Button changes tone="link" onPress={() => run.mutate({id: batch.id, stop: true})}>
                Cancel
              </Button>
            )}
            {(batch.state === 'cancelled' || batch.state === 'failed') && (
              <Button changes tone="link" onPress={() => run.mutate({id: batch.id})}>
                Resume
              </Button>
            )}
            {batch.done > 0 && (
              <Button tone="link" onPress={() => void save(batch)}>
                Export CSV
              </Button>
            )}
          </span>
        </Row>
      ))}
      <Form onSubmit={submit}>
        <Field
          label="Domain names, up to 20,000"
          mono
          lines={3}
          value={text}
          onChange={setText}
          isRequired
          placeholder={'marramferries.example\nglasswort.example'}
        />
        <span>
          <Button type="submit" tone="main" isDisabled={start.isPending}>
            Start audit
          </Button>
        </span>
      </Form>
      {wrong != null && <Trouble error={wrong} />}
    </Card>
  );
}
