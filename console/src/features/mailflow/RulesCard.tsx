/** Rules of one's own: written from a reply_pattern, tried on the past, kept, and applied to it. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {useApplyRules, useKeepRules, useRules, useRuleTrial, useStopRules} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {count, plural, words} from '../../design/format';
import {Notice, Trouble} from '../../design/Notice';
import {font, space} from '../../design/tokens';

type Rule = Schemas['OwnRule'];
type Cause = Schemas['OwnRule']['cause'];

const Form = styled.form`
  display: grid;
  gap: ${space.m};
  grid-template-columns: repeat(auto-fill, minmax(240px, 1fr));
  align-items: start;
  margin: ${space.m} 0;
  [data-wide] {
    grid-column: 1 / -1;
  }
`;
const Row = styled.span`
  display: flex;
  gap: ${space.s};
  flex-wrap: wrap;
  align-items: center;
`;
const Reply = styled.code`
  font: 12px/1.4 ${font.mono};
  white-space: normal;
  overflow-wrap: anywhere;
  display: block;
  min-width: 24ch;
`;

export const CAUSES: Cause[] = [
  'no_such_mailbox',
  'mailbox_disabled',
  'mailbox_full',
  'no_such_domain',
  'host_unreachable',
  'reputation',
  'blocklisted',
  'authentication',
  'content',
  'policy',
  'rate_limited',
  'greylisted',
  'too_large',
  'relay_denied',
  'tls_required',
  'loop',
  'expired',
  'protocol_error',
  'provider_trouble',
];

/** The longest run of plain words in a pattern: what a rule most likely goes by. */
export function wordsOf(pattern: string): string {
  const runs: string[] = [];
  let run: string[] = [];
  for (const word of [...pattern.split(' '), '#']) {
    const plain = /[#~@]/.test(word) || /^[245][\d.-]*[\d]?$/.test(word) ? '' : word;
    if (plain) run.push(plain.toLowerCase());
    if (!plain || /[.,;:!?)]$/.test(word)) {
      const text = run.join(' ').replace(/^[^\p{L}\d]+|[^\p{L}\d]+$/gu, '');
      if (text) runs.push(text);
      run = [];
    }
  }
  return runs.sort((a, b) => b.length - a.length)[0]?.slice(0, 100) ?? '';
}

const EMPTY: Rule = {
  name: '',
  cause: 'policy',
  words: [],
  pattern: '',
  unless: '',
  code: '',
  enhanced: '',
  provider: '',
  permanence: '',
  fits: [],
  fits_not: [],
};

/** A rule to begin with, from a reply_pattern that no rule knows. */
export const ruleFrom = (pattern: string, example: string, cause?: Cause): Rule => ({
  ...EMPTY,
  cause: cause && CAUSES.includes(cause) ? cause : EMPTY.cause,
  name: wordsOf(pattern)
    .replace(/[^a-z0-9]+/g, '-')
    .slice(0, 30)
    .replace(/^-+|-+$/g, ''),
  words: [wordsOf(pattern)].filter(Boolean),
  fits: [example],
});

export function RulesCard({
  tenant,
  draft,
  onDraft,
}: {
  tenant: string;
  draft: Rule | null;
  onDraft: (rule: Rule | null) => void;
}) {
  const rules = useRules(tenant);
  const keep = useKeepRules(tenant);
  const apply = useApplyRules(tenant);
  const stop = useStopRules(tenant);
  const own = rules.data?.rules ?? [];
  const now = rules.data?.application;
  const put = (changed: Rule[]) => keep.mutate({version: rules.data?.version ?? 0, rules: changed, apply: true});
  return (
    <Card
      title="Your own rules"
      note="asked in this order, before those that are shipped"
      actions={!draft && <Button onPress={() => onDraft({...EMPTY})}>Write a rule</Button>}
    >
      {rules.error && <Trouble error={rules.error} />}
      {[keep, apply, stop].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
      {now && <Applied now={now} onApply={() => apply.mutate()} onStop={() => stop.mutate()} />}
      {rules.data && own.length === 0 && !draft && (
        <Soft>None yet. Write one from a reply below that no rule knows.</Soft>
      )}
      {own.length > 0 && (
        <DataTable
          label="Own rules"
          columns={[
            {name: 'Rule', value: (row: Rule) => row.name},
            {
              name: 'Cause',
              value: (row) => row.cause,
              show: (row) => (
                <>
                  {words(row.cause)} {row.permanence && <Small>{row.permanence}</Small>}
                </>
              ),
            },
            {
              name: 'When the reply has',
              value: (row) => [...(row.words ?? []), row.pattern].filter(Boolean).join(' | '),
              show: (row) => (
                <Reply>
                  {[
                    (row.words ?? []).join(' or '),
                    row.pattern && `/${row.pattern}/`,
                    row.unless && `not /${row.unless}/`,
                    row.code,
                    row.enhanced,
                  ]
                    .filter(Boolean)
                    .join(', ')}
                </Reply>
              ),
            },
            {name: 'At', value: (row) => row.provider || 'any provider'},
            {
              name: 'Change',
              value: () => '',
              tool: true,
              show: (row) => (
                <Row>
                  <Button tone="link" onPress={() => onDraft(row)}>
                    Edit
                  </Button>
                  <Button
                    tone="link"
                    isDisabled={keep.isPending}
                    onPress={() => put(own.filter((each) => each.name !== row.name))}
                  >
                    Drop
                  </Button>
                </Row>
              ),
            },
          ]}
          rows={own}
          id={(row) => row.name}
          file={`rules-${tenant}.csv`}
        />
      )}
      {draft && (
        <RuleForm
          key={draft.name + draft.fits?.join()}
          tenant={tenant}
          start={draft}
          others={own.filter((each) => each.name !== draft.name)}
          busy={keep.isPending}
          onKeep={(rule) =>
            keep.mutate(
              {
                version: rules.data?.version ?? 0,
                rules: [...own.filter((each) => each.name !== draft.name && each.name !== rule.name), rule],
                apply: true,
              },
              {onSuccess: () => onDraft(null)},
            )
          }
          onLeave={() => onDraft(null)}
        />
      )}
    </Card>
  );
}

function Applied({now, onApply, onStop}: {now: Schemas['RuleApplication']; onApply: () => void; onStop: () => void}) {
  const judged = `${count(now.judged)} bounces and delays looked at, ${count(now.changed)} changed`;
  const followed =
    now.entries_made || now.entries_lifted
      ? `; ${plural(now.entries_made, 'suppression entry').replace('entrys', 'entries')} made, ${count(now.entries_lifted)} lifted`
      : '';
  if (now.state === 'waiting' || now.state === 'running') {
    return (
      <Row role="status">
        <progress max={Math.max(1, now.days)} value={now.days_done} aria-label="Judging the past" /> Judging the past:{' '}
        {now.days_done} of {now.days} days, {judged}.<Button onPress={onStop}>Stop</Button>
      </Row>
    );
  }
  if (now.state === 'done')
    return (
      <Small role="status">
        The past is judged by these rules: {judged}
        {followed}.
      </Small>
    );
  return (
    <Row role="status">
      {now.state === 'failed'
        ? `Judging the past failed: ${now.error}.`
        : `Stopped after ${now.days_done} of ${now.days} days: ${judged}${followed}.`}
      <Button onPress={onApply}>{now.state === 'failed' ? 'Try again' : 'Go on'}</Button>
    </Row>
  );
}

function RuleForm({
  tenant,
  start,
  others,
  busy,
  onKeep,
  onLeave,
}: {
  tenant: string;
  start: Rule;
  others: Rule[];
  busy: boolean;
  onKeep: (rule: Rule) => void;
  onLeave: () => void;
}) {
  const [rule, setRule] = useState<Rule>(start);
  const trial = useRuleTrial(tenant);
  const set = (change: Partial<Rule>) => {
    setRule({...rule, ...change});
    trial.reset();
  };
  const lines = (text: string) =>
    text
      .split('\n')
      .map((line) => line.trim())
      .filter(Boolean);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    trial.mutate({rules: [...others, rule], days: 90});
  };
  const found = trial.data;
  return (
    <>
      <Form onSubmit={submit} aria-label="A rule">
        <Field
          label="Name"
          mono
          value={rule.name}
          onChange={(name) => set({name})}
          placeholder="harbour-closed"
          isRequired
        />
        <div>
          <Small>Cause</Small>
          <br />
          <Choice
            label="Cause"
            value={rule.cause}
            options={CAUSES.map((value) => ({value, label: words(value)}))}
            onChange={(cause) => set({cause: cause as Cause})}
          />
        </div>
        <div>
          <Small>Whether trying again helps</Small>
          <br />
          <Choice
            label="Permanence"
            value={rule.permanence || 'code'}
            options={[
              {value: 'code', label: 'as the reply code says'},
              {value: 'transient', label: 'transient, whatever the code'},
              {value: 'permanent', label: 'permanent, whatever the code'},
            ]}
            onChange={(value) => set({permanence: value === 'code' ? '' : (value as Rule['permanence'])})}
          />
        </div>
        <Field
          label="Only at this provider"
          mono
          value={rule.provider ?? ''}
          onChange={(provider) => set({provider})}
          placeholder="any"
        />
        <Field
          data-wide
          label="One of these words stands in it"
          hint="one a line, in lower case; numbers, addresses and hosts are taken out"
          mono
          lines={2}
          value={(rule.words ?? []).join('\n')}
          onChange={(text) => set({words: text.split('\n')})}
        />
        <Field
          label="And this fits (regular expression)"
          mono
          value={rule.pattern ?? ''}
          onChange={(pattern) => set({pattern})}
        />
        <Field label="And this does not" mono value={rule.unless ?? ''} onChange={(unless) => set({unless})} />
        <Field
          label="Reply codes"
          mono
          value={rule.code ?? ''}
          onChange={(code) => set({code})}
          placeholder="550 or 5xx"
        />
        <Field
          label="Enhanced codes"
          mono
          value={rule.enhanced ?? ''}
          onChange={(enhanced) => set({enhanced})}
          placeholder="5.1.1 or 5.7.*"
        />
        <Field
          data-wide
          label="Replies that it has to decide"
          hint="one a line; they are its tests"
          mono
          lines={2}
          value={(rule.fits ?? []).join('\n')}
          onChange={(text) => set({fits: text.split('\n')})}
        />
        <Field
          data-wide
          label="Replies that it must not decide"
          mono
          lines={2}
          value={(rule.fits_not ?? []).join('\n')}
          onChange={(text) => set({fits_not: text.split('\n')})}
        />
        <Row data-wide>
          <Button type="submit" tone={found ? undefined : 'main'} isDisabled={trial.isPending}>
            {trial.isPending ? 'Trying …' : 'Try it on the past'}
          </Button>
          {found && found.problems.length === 0 && (
            <Button
              tone="main"
              isDisabled={busy}
              onPress={() =>
                onKeep({
                  ...rule,
                  words: lines((rule.words ?? []).join('\n')),
                  fits: lines((rule.fits ?? []).join('\n')),
                  fits_not: lines((rule.fits_not ?? []).join('\n')),
                })
              }
            >
              Keep it, and judge the past anew
            </Button>
          )}
          <Button onPress={onLeave}>Leave it</Button>
        </Row>
      </Form>
      {trial.error && <Trouble error={trial.error} />}
      {found?.problems.map((each) => (
        <Notice key={each} title={each}>
          Change the rule or its examples.
        </Notice>
      ))}
      {found && (
        <>
          <p role="status">
            <b>{count(found.changed)}</b> of {count(found.judged)} bounces and delays since {found.first_day} would be
            judged otherwise.{' '}
            {found.frees > 0 && (
              <>
                {plural(found.frees, 'bounce')} would no longer speak against{' '}
                {found.frees === 1 ? 'its address' : 'their addresses'}.{' '}
              </>
            )}
            {found.holds > 0 && (
              <>
                {plural(found.holds, 'bounce')} would now speak against{' '}
                {found.holds === 1 ? 'its address' : 'their addresses'}.
              </>
            )}
          </p>
          {found.rows.length > 0 && (
            <DataTable
              label="What would change"
              columns={[
                {
                  name: 'Times',
                  value: (row: Schemas['RejudgedPattern']) => row.count,
                  show: (row) => count(row.count),
                  number: true,
                },
                {
                  name: 'Judged',
                  value: (row) => row.cause,
                  show: (row) => (
                    <>
                      {words(row.cause)} <Small>{row.permanence}</Small>
                    </>
                  ),
                },
                {
                  name: 'Would be',
                  value: (row) => row.new_cause,
                  show: (row) => (
                    <>
                      <Tag level="right">{words(row.new_cause)}</Tag>{' '}
                      <Small>
                        {row.new_permanence}, {row.new_rule}
                      </Small>
                    </>
                  ),
                },
                {name: 'At', value: (row) => row.providers.join(', ')},
                {name: 'Wording', value: (row) => row.pattern, show: (row) => <Reply>{row.pattern}</Reply>},
              ]}
              rows={found.rows}
              id={(row) => `${row.pattern} ${row.cause} ${row.permanence} ${row.new_rule}`}
              file={`trial-${tenant}.csv`}
            />
          )}
        </>
      )}
    </>
  );
}
