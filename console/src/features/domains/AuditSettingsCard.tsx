/** What a tenant's audits look at beside DNS records of the domain: lists, and usual selectors. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useAuditSettings, useSaveAuditSettings} from './queries';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Field} from '../../design/Field';
import {Loading, Trouble} from '../../design/Notice';
import {space} from '../../design/tokens';

type Settings = Schemas['AuditSettings'];
type DnsList = Schemas['DnsListSetting'];

const Form = styled.form`
  display: grid;
  gap: ${space.m};
  max-width: 720px;
`;

/** A list a line: its zone, `ip` or `domain`, and what it is called. */
export const listLines = (lists: DnsList[]): string =>
  lists.map((each) => [each.zone, each.kind, each.label].filter(Boolean).join(' ')).join('\n');

/** The lists of these lines; codes that are known of a list stay with it. */
export function readLists(text: string, known: DnsList[]): DnsList[] {
  return text
    .split('\n')
    .map((line) => line.trim().split(/\s+/))
    .filter((words) => words[0])
    .map(([zone, kind, ...label]) => {
      const named = kind === 'ip' || kind === 'domain';
      return {
        zone: zone!,
        kind: kind === 'domain' ? 'domain' : 'ip',
        label: (named ? label : [kind, ...label]).filter(Boolean).join(' '),
        codes: known.find((each) => each.zone === zone)?.codes ?? {},
      };
    });
}

export function AuditSettingsCard({tenant}: {tenant: string}) {
  const settings = useAuditSettings(tenant);
  return (
    <Card title="Audit settings" note="what audits check besides the records of the domain">
      {settings.isPending && <Loading what="the settings" />}
      {settings.error && <Trouble error={settings.error} />}
      {settings.data && <SettingsForm tenant={tenant} settings={settings.data} />}
    </Card>
  );
}

function SettingsForm({tenant, settings}: {tenant: string; settings: Settings}) {
  const [lists, setLists] = useState(listLines(settings.lists ?? []));
  const [selectors, setSelectors] = useState((settings.usual_selectors ?? []).join(' '));
  const save = useSaveAuditSettings(tenant);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate({
      ...settings,
      lists: readLists(lists, settings.lists ?? []),
      usual_selectors: selectors.split(/[\s,]+/).filter(Boolean),
    });
  };
  return (
    <Form onSubmit={submit}>
      <Field
        label="DNS lists (RFC 5782), one per line: zone, ip or domain, name"
        hint="Queried for the sending IPs or the domain. A list that lists everything or refuses queries is reported and ignored."
        mono
        lines={4}
        value={lists}
        onChange={setLists}
      />
      <Field
        label="Common selectors to try"
        hint="DNS cannot list selectors. These are tried on every domain; add the ones that sign to the settings of the domain."
        mono
        value={selectors}
        onChange={setSelectors}
      />
      <span>
        <Button type="submit" tone="main" isDisabled={save.isPending}>
          Save
        </Button>{' '}
        {save.isSuccess && <Small role="status">Saved. Applies from the next audit.</Small>}
      </span>
      {save.error && <Trouble error={save.error} />}
    </Form>
  );
}
