/** Publishing by dynamic update: the exact change first, applied when it is confirmed, and the way back. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import {usePublications, usePublish, usePutUpdateServer, useShowChange, useUpdateServers} from './queries';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Field} from '../../design/Field';
import {plural} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {colour, font, space} from '../../design/tokens';

const Diff = styled.pre`
  font: 12px/1.55 ${font.mono};
  background: ${colour('paper')};
  border: 1px solid ${colour('line')};
  padding: 6px 8px;
  margin: 6px 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  [data-sign='-'] {
    color: ${colour('corroded')};
  }
  [data-sign='+'] {
    color: ${colour('sound')};
  }
  span {
    display: block;
  }
`;
const Form = styled.form`
  display: grid;
  gap: ${space.s};
`;

export const ChangeView = ({changes}: {changes: Schemas['RrsetChange'][]}) => (
  <Diff aria-label="Changes">
    {changes.map((each) => (
      <span key={each.name + each.type}>
        <b>
          {each.name} {each.type}
        </b>
        {each.before
          .filter((value) => !each.after.includes(value))
          .map((value) => (
            <span key={value} data-sign="-">
              - {each.before_ttl} {value}
            </span>
          ))}
        {each.after.map((value) => {
          const sign = each.before.includes(value) ? ' ' : '+';
          return (
            <span key={value} data-sign={sign}>
              {sign} {each.ttl} {value}
            </span>
          );
        })}
      </span>
    ))}
  </Diff>
);

export function PublishCard({tenant, name, zone}: {tenant: string; name: string; zone: string}) {
  const servers = useUpdateServers(tenant);
  const show = useShowChange(tenant, name);
  const publish = usePublish(tenant, name);
  const made = usePublications(tenant, name);
  const [open, setOpen] = useState(false);
  const server = servers.data?.find((each) => each.zone === zone);
  const shown = show.data;
  return (
    <Card
      title="Publish by dynamic update"
      note={
        server
          ? `at ${server.address}, key ${server.key_name}`
          : 'RFC 2136, for name servers that accept signed updates'
      }
    >
      {server && (
        <Button tone={shown ? 'plain' : 'main'} onPress={() => show.mutate()} isDisabled={show.isPending}>
          {show.isPending ? 'Checking …' : 'Preview changes'}
        </Button>
      )}
      {show.error && <Trouble error={show.error} />}
      {shown && (
        <>
          {shown.obstacles.map((each) => (
            <p key={each} style={{fontSize: 13}}>
              <Tag level="fault">cannot</Tag> {each}
            </p>
          ))}
          {shown.changes.length === 0 ? (
            <p>
              <Soft>The zone is up to date.</Soft>
            </p>
          ) : (
            <>
              <ChangeView changes={shown.changes} />
              <Button
                tone="main"
                isDisabled={publish.isPending}
                onPress={() => publish.mutate({digest: shown.digest}, {onSuccess: () => show.reset()})}
              >
                {publish.isPending
                  ? 'Publishing …'
                  : `Publish ${plural(shown.changes.length, 'change')} in ${shown.zone}`}
              </Button>
            </>
          )}
        </>
      )}
      {publish.error && <Trouble error={publish.error} />}
      {made.data?.slice(0, 5).map((each) => (
        <p
          key={each.id}
          style={{fontSize: 13, margin: '8px 0 0', display: 'flex', gap: 8, flexWrap: 'wrap', alignItems: 'baseline'}}
        >
          <Tag level={each.state === 'applied' ? (each.verified ? 'right' : 'risk') : 'note'}>
            {each.state === 'applied' ? 'published' : 'rolled back'}
          </Tag>
          <span>{plural(each.changes.length, 'set')} of records</span>
          <Small>
            {each.made_at.slice(0, 16).replace('T', ' ')} by {each.made_by}
          </Small>
          {each.state === 'applied' && (
            <Button changes tone="link" onPress={() => publish.mutate({back: each.id})} isDisabled={publish.isPending}>
              Roll back
            </Button>
          )}
        </p>
      ))}
      {!open && servers.data && (
        <Button changes onPress={() => setOpen(true)} tone={server ? 'link' : undefined}>
          {server ? 'Replace the key' : `Add the name server of ${zone}`}
        </Button>
      )}
      {open && <ServerForm tenant={tenant} zone={zone} there={server} onDone={() => setOpen(false)} />}
    </Card>
  );
}

function ServerForm({
  tenant,
  zone,
  there,
  onDone,
}: {
  tenant: string;
  zone: string;
  there?: Schemas['UpdateServer'];
  onDone: () => void;
}) {
  const put = usePutUpdateServer(tenant);
  const [address, setAddress] = useState(there?.address ?? '');
  const [key, setKey] = useState('');
  const [secret, setSecret] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    put.mutate(
      {
        zone,
        body: {
          address: address.trim(),
          key_name: key.trim(),
          algorithm: 'hmac-sha256',
          secret: secret.trim(),
          overlap_hours: there ? 24 : 0,
        },
      },
      {onSuccess: onDone},
    );
  };
  return (
    <Form onSubmit={submit}>
      <Field
        label={`Primary name server of ${zone}`}
        mono
        value={address}
        onChange={setAddress}
        placeholder="192.0.2.53:53"
        isRequired
      />
      <Field
        label="TSIG key (hmac-sha256)"
        mono
        value={key}
        onChange={setKey}
        placeholder={`rust-gauge.${zone}`}
        isRequired
      />
      <Field
        label="TSIG secret"
        hint={
          there
            ? 'stored encrypted; the key before is still tried for 24 hours'
            : 'stored encrypted and never shown again'
        }
        mono
        type="password"
        value={secret}
        onChange={setSecret}
        isRequired
      />
      <span style={{display: 'flex', gap: 8}}>
        <Button type="submit" tone="main" isDisabled={put.isPending}>
          Save
        </Button>
        <Button onPress={onDone}>Cancel</Button>
      </span>
      {put.error && <Trouble error={put.error} />}
    </Form>
  );
}
