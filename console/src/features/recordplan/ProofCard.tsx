/** That the domain and its sender addresses are yours: by a record, or by a code in a message. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useProofAction, useProofs, useSenders} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Tag} from '../../design/Card';
import {CopyButton} from '../../design/CopyButton';
import {Field} from '../../design/Field';
import {ago} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {RecordText} from '../../design/RecordText';
import {colour, font, space} from '../../design/tokens';

type Proof = Schemas['Proof'];
const LEVELS = {verified: 'right', waiting: 'risk', lost: 'fault', expired: 'note'} as const;
const Each = styled.div`
  display: grid;
  gap: 6px;
  border-top: 1px solid ${colour('line')};
  padding: 8px 0;
  font-size: 13px;
  code {
    font: 12px ${font.mono};
    overflow-wrap: anywhere;
  }
  form {
    display: flex;
    gap: ${space.s};
    align-items: end;
    flex-wrap: wrap;
  }
`;
const Actions = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  align-items: end;
  margin-top: ${space.s};
`;

/** Proofs that concern a domain: its own, those above it, and addresses in it. */
export const concerning = (proofs: Proof[], name: string): Proof[] =>
  proofs.filter((each) =>
    each.kind === 'domain'
      ? name === each.subject || name.endsWith(`.${each.subject}`)
      : each.subject.endsWith(`@${name}`),
  );

export function ProofCard({tenant, name}: {tenant: string; name: string}) {
  const proofs = useProofs(tenant);
  const senders = useSenders(tenant);
  const act = useProofAction(tenant);
  const [address, setAddress] = useState('');
  const mine = concerning(proofs.data ?? [], name);
  const proven = mine.some((each) => each.kind === 'domain' && each.state === 'verified');
  const has = (method: string) => mine.some((each) => each.method === method && each.subject === name);
  const start = (subject: string, method: 'record' | 'postmaster' | 'mail') =>
    act.mutate({start: {subject, method, relay: ''}});
  const unaligned = (senders.data ?? []).filter((each) => each.domain === name && each.aligned === false);
  return (
    <Card title="Ownership" note={<Tag level={proven ? 'right' : 'risk'}>{proven ? 'verified' : 'not verified'}</Tag>}>
      {proofs.error && <Trouble error={proofs.error} again={() => void proofs.refetch()} />}
      {unaligned.map((each) => (
        <p key={each.stream} style={{margin: '0 0 6px', fontSize: 13}}>
          <Tag level="fault">{each.stream}</Tag> {each.summary}
        </p>
      ))}
      {mine.map((each) => (
        <OneProof key={each.id} proof={each} act={act} />
      ))}
      <Actions>
        {!proven && !has('record') && (
          <Button tone="main" onPress={() => start(name, 'record')} isDisabled={act.isPending}>
            Verify with a DNS record
          </Button>
        )}
        {!proven && !has('postmaster') && (
          <Button onPress={() => start(name, 'postmaster')} isDisabled={act.isPending}>
            Send a code to postmaster@{name}
          </Button>
        )}
      </Actions>
      <form
        style={{display: 'flex', gap: 8, alignItems: 'end', flexWrap: 'wrap', marginTop: 12}}
        onSubmit={(event) => {
          event.preventDefault();
          start(address.trim(), 'mail');
        }}
      >
        <Field
          label="Verify a sender address"
          mono
          value={address}
          onChange={setAddress}
          placeholder={`boxoffice@${name}`}
          isRequired
        />
        <Button type="submit" isDisabled={act.isPending}>
          Send code
        </Button>
      </form>
      {act.error && <Trouble error={act.error} />}
    </Card>
  );
}

function OneProof({proof, act}: {proof: Proof; act: ReturnType<typeof useProofAction>}) {
  const [code, setCode] = useState('');
  const submit = (event: FormEvent) => {
    event.preventDefault();
    act.mutate({id: proof.id, code});
  };
  return (
    <Each>
      <span>
        <Tag level={LEVELS[proof.state]}>{proof.state}</Tag> <code>{proof.subject}</code>{' '}
        <Small>
          {proof.method === 'record' ? 'by DNS record' : `by a code sent to ${proof.sent_to}`}
          {proof.checked_at && `, checked ${ago(proof.checked_at)}`}
        </Small>
      </span>
      {proof.method === 'record' && proof.state !== 'verified' && (
        <>
          <RecordText text={`${proof.record_name}. IN TXT "${proof.record}"`} />
          <span style={{display: 'flex', gap: 8}}>
            <CopyButton value={proof.record}>Copy value</CopyButton>
            <Button changes onPress={() => act.mutate({check: proof.id})} isDisabled={act.isPending}>
              Check now
            </Button>
          </span>
        </>
      )}
      {proof.method !== 'record' && proof.state === 'waiting' && (
        <form onSubmit={submit}>
          <Field
            label={`Code from the message (${proof.tries_left} tries left)`}
            mono
            value={code}
            onChange={setCode}
            isRequired
          />
          <Button type="submit" isDisabled={act.isPending}>
            Submit
          </Button>
        </form>
      )}
    </Each>
  );
}
