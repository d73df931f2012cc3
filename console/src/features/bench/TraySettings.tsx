/** Settings of a tray: retention, limits, and how it answers as a difficult receiver. */
import {useState, type FormEvent} from 'react';
import {useNavigate} from 'react-router';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card} from '../../design/Card';
import {Confirm} from '../../design/Confirm';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {Trouble} from '../../design/Notice';
import {Rows, type RowValues} from '../../design/Rows';
import {Row, Stack} from '../../design/Stack';
import {useDeleteTray, useEmptyTray, useUpdateTray} from './queries';

type Rule = Schemas['ReceiverRule'];
const ACTIONS = [
  {value: 'refuse', label: 'Refuse'},
  {value: 'full', label: 'Mailbox full'},
  {value: 'greylist', label: 'Greylist'},
  {value: 'delay', label: 'Delay the answer'},
  {value: 'slow', label: 'Be slow'},
];
const STAGES = [
  {value: 'rcpt', label: 'after RCPT TO'},
  {value: 'data', label: 'after the message'},
];
const rowOf = (rule: Rule): RowValues => ({...rule, reply: rule.reply ?? '', seconds: String(rule.seconds ?? 0)});
const ruleOf = (row: RowValues): Rule => ({
  recipients: row.recipients || '*',
  action: (row.action || 'refuse') as Rule['action'],
  reply: row.reply ?? '',
  stage: (row.stage || 'rcpt') as Rule['stage'],
  seconds: Number(row.seconds) || 0,
});

export function TraySettings({path, tray}: {path: {tenant: string; name: string}; tray: Schemas['Tray']}) {
  const update = useUpdateTray(path);
  const remove = useDeleteTray(path);
  const empty = useEmptyTray(path);
  const navigate = useNavigate();
  const [title, setTitle] = useState(tray.title);
  const [days, setDays] = useState(String(tray.keep_days));
  const [most, setMost] = useState(String(tray.keep_messages));
  const [size, setSize] = useState(String(tray.max_bytes));
  const [ip, setIp] = useState(tray.sending_ip);
  const [header, setHeader] = useState(tray.series_header);
  const [rules, setRules] = useState(tray.receiver.map(rowOf));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    update.mutate({
      title,
      keep_days: Number(days),
      keep_messages: Number(most),
      max_bytes: Number(size),
      sending_ip: ip.trim(),
      series_header: header.trim(),
      receiver: rules.map(ruleOf),
    });
  };
  return (
    <Stack>
      <Card title="Settings">
        <FormGrid needs="admin" onSubmit={submit}>
          <Field label="Title" value={title} onChange={setTitle} />
          <Field label="Days kept" value={days} onChange={setDays} />
          <Field label="Messages kept" value={most} onChange={setMost} />
          <Field label="Largest message, octets" value={size} onChange={setSize} />
          <Field
            label="Sending IP"
            hint="that real mail will be sent from: SPF and blocklists are checked for it"
            mono
            value={ip}
            onChange={setIp}
          />
          <Field
            label="Header field that names the template"
            hint="without it, the subject does"
            mono
            value={header}
            onChange={setHeader}
            placeholder="X-Template"
          />
          <div style={{gridColumn: '1 / -1'}}>
            <Rows
              label="Difficult receiver"
              hint="the first rule that matches a recipient counts; others are accepted"
              add="Add a rule"
              fields={[
                {name: 'recipients', label: 'Recipients', placeholder: 'full@*'},
                {name: 'action', label: 'Action', options: ACTIONS},
                {name: 'reply', label: 'Reply', placeholder: '550 5.1.1 No such mailbox'},
                {name: 'stage', label: 'Stage', options: STAGES},
                {name: 'seconds', label: 'Seconds'},
              ]}
              rows={rules}
              onChange={setRules}
              most={50}
            />
          </div>
          <footer>
            <Button type="submit" tone="main" changes needs="admin" isDisabled={update.isPending}>
              {update.isPending ? 'Saving …' : update.isSuccess ? 'Saved' : 'Save'}
            </Button>
          </footer>
        </FormGrid>
        {update.error && <Trouble error={update.error} />}
      </Card>
      <Row>
        <Confirm
          label="Delete all messages"
          title={`Delete all messages of ${path.name}?`}
          action="Delete"
          needs="operator"
          onConfirm={() => empty.mutate(undefined)}
        >
          The tray stays, with its password and its address.
        </Confirm>
        <Confirm
          label="Delete tray"
          title={`Delete the tray ${path.name}?`}
          action="Delete"
          needs="admin"
          onConfirm={() => remove.mutate(undefined, {onSuccess: () => void navigate(`/bench?tenant=${path.tenant}`)})}
        >
          Its messages go with it, and its password and address no longer work.
        </Confirm>
        {(empty.error ?? remove.error) && <Trouble error={(empty.error ?? remove.error)!} />}
      </Row>
    </Stack>
  );
}
