/** Streams that are paused: clearance holds all their mail until somebody resumes them. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {
  useAlertSettings,
  usePauseStream,
  usePutAlertSettings,
  useResumeStream,
  useStreamPauses,
} from '../worklist/queries';
import {Button} from '../../design/Button';
import {CheckField} from '../../design/CheckField';
import {Card, Soft} from '../../design/Card';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {time} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';

export function StreamPausesCard({tenant}: {tenant: string}) {
  const settings = useAlertSettings(tenant);
  const put = usePutAlertSettings(tenant);
  const pauses = useStreamPauses(tenant);
  const pause = usePauseStream(tenant);
  const resume = useResumeStream(tenant);
  const [stream, setStream] = useState('');
  const [relay, setRelay] = useState('');
  const [reason, setReason] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    pause.mutate(
      {stream, relay, why: reason},
      {
        onSuccess: () => {
          setStream('');
          setReason('');
        },
      },
    );
  };
  const problem = pause.error ?? resume.error ?? put.error;
  return (
    <Stack>
      <Card title="Paused streams" note="clearance holds all mail of a paused stream until it is resumed">
        {pauses.error && <Trouble error={pauses.error} />}
        {pauses.data?.length === 0 && <Soft>No streams are paused.</Soft>}
        {pauses.data && pauses.data.length > 0 && (
          <DataTable
            label="Paused streams"
            columns={[
              {name: 'Stream', value: (row: Schemas['StreamPause']) => row.stream},
              {name: 'Relay', value: (row) => row.relay || 'any'},
              {name: 'Since', value: (row) => row.since, show: (row) => time(row.since)},
              {name: 'Paused by', value: (row) => row.by || 'a crossed stop line'},
              {name: 'Reason', value: (row) => row.why},
              {
                name: '',
                value: () => '',
                tool: true,
                show: (row) => (
                  <Button
                    changes
                    tone="link"
                    isDisabled={!reason.trim() || resume.isPending}
                    onPress={() =>
                      resume.mutate(
                        {stream: row.stream, relay: row.relay, why: reason},
                        {onSuccess: () => setReason('')},
                      )
                    }
                  >
                    Resume
                  </Button>
                ),
              },
            ]}
            rows={pauses.data}
            id={(row) => row.stream + row.relay}
            file={`stream-pauses-${tenant}.csv`}
          />
        )}
        <FormGrid onSubmit={submit} style={{marginTop: 12}}>
          <Field label="Stream" value={stream} onChange={setStream} placeholder="newsletter" />
          <Field label="Relay" hint="empty: any relay" value={relay} onChange={setRelay} />
          <Field
            label="Reason"
            hint="required to pause and to resume"
            value={reason}
            onChange={setReason}
            placeholder="Wrong prices in the mailing"
          />
          <footer>
            <Button type="submit" isDisabled={!stream.trim() || !reason.trim() || pause.isPending}>
              Pause stream
            </Button>
          </footer>
        </FormGrid>
        {problem && <Trouble error={problem} />}
      </Card>
      <Card title="Automatic pauses">
        {settings.data && (
          <CheckField
            label="Stop automatically at a stop line"
            isSelected={settings.data.auto_pause}
            isDisabled={put.isPending}
            onChange={(auto_pause) => put.mutate({...settings.data, auto_pause})}
          />
        )}
        <p>
          <Soft>When a stream crosses its stop line, it is paused on that relay until somebody resumes it.</Soft>
        </p>
      </Card>
    </Stack>
  );
}
