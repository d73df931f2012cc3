/** Rules of its own: written from a reply_pattern, tried on the past, kept, and applied to it. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {CAUSES} from './causes';
import {useApplyRules, useKeepRules, useRules, useRuleTrial, useStopRules} from './queries';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
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
  says: [],
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
      title="Your cause rules"
      note="applied in this order, before the built-in rules"
      actions={!draft && <Button onPress={() => onDraft({...EMPTY})}>Add a rule</Button>}
    >
      {rules.error && <Trouble error={rules.error} />}
      {[keep, apply, stop].map((each, i) => each.error && <Trouble key={i} error={each.error} />)}
      {now && <Applied now={now} onApply={() => apply.mutate()} onStop={() => stop.mutate()} />}
      {rules.data && own.length === 0 && !draft && (
        <Soft>No rules yet. Create one from a reply below that no rule matches.</Soft>
      )}
      {own.length > 0 && (
        <DataTable
          label="Your rules"
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
              name: 'Matches',
              value: (row) => [...(row.says ?? []), ...(row.words ?? []), row.pattern].filter(Boolean).join(' | '),
              show: (row) => (
                <Reply>
                  {[
                    (row.says ?? []).join(' or '),
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
                  <Confirm
                    label="Delete"
                    tone="link"
                    title={`Delete the rule ${row.name}?`}
                    action="Delete"
                    isDisabled={keep.isPending}
                    onConfirm={() => put(own.filter((each) => each.name !== row.name))}
                  >
                    Past events keep their cause until they are re-classified.
                  </Confirm>
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
  const judged = `${count(now.judged)} bounces and delays re-classified, ${count(now.changed)} changed`;
  const followed =
    now.entries_made || now.entries_lifted
      ? `; ${plural(now.entries_made, 'suppression entry').replace('entrys', 'entries')} added, ${count(now.entries_lifted)} lifted`
      : '';
  if (now.state === 'waiting' || now.state === 'running') {
    return (
      <Row role="status">
        <progress max={Math.max(1, now.days)} value={now.days_done} aria-label="Reclassification of past events" />{' '}
        Re-classifying past events: {now.days_done} of {now.days} days, {judged}.
        <Button onPress={onStop}>Cancel</Button>
      </Row>
    );
  }
  if (now.state === 'done')
    return (
      <Small role="status">
        Past events use these rules: {judged}
        {followed}.
      </Small>
    );
  return (
    <Row role="status">
      {now.state === 'failed'
        ? `Re-classification failed: ${now.error}.`
        : `Cancelled after ${now.days_done} of ${now.days} days: ${judged}${followed}.`}
      <Button onPress={onApply}>{now.state === 'failed' ? 'Try again' : 'Resume'}</Button>
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
  /** The rule without the empty lines that are there while somebody types. */
  const entered: Rule = {
    ...rule,
    says: lines((rule.says ?? []).join('\n')),
    words: lines((rule.words ?? []).join('\n')),
    fits: lines((rule.fits ?? []).join('\n')),
    fits_not: lines((rule.fits_not ?? []).join('\n')),
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    trial.mutate({rules: [...others, entered], days: 90});
  };
  const found = trial.data;
  return (
    <>
      <Form onSubmit={submit} aria-label="Cause rule">
        <Field
          label="Name"
          mono
          value={rule.name}
          onChange={(name) => set({name})}
          placeholder="harbour-closed"
          isRequired
        />
        <Choice
          field
          label="Cause"
          value={rule.cause}
          options={CAUSES.map((value) => ({value, label: words(value)}))}
          onChange={(cause) => set({cause: cause as Cause})}
        />
        <Choice
          field
          label="Permanence"
          value={rule.permanence || 'code'}
          options={[
            {value: 'code', label: 'by reply code'},
            {value: 'transient', label: 'always transient'},
            {value: 'permanent', label: 'always permanent'},
          ]}
          onChange={(value) => set({permanence: value === 'code' ? '' : (value as Rule['permanence'])})}
        />
        <Field
          label="Only at provider"
          mono
          value={rule.provider ?? ''}
          onChange={(provider) => set({provider})}
          placeholder="any"
        />
        <Field
          data-wide
          label="Contains one of these words"
          hint="one per line, in lower case, without numbers, addresses and hosts"
          mono
          lines={2}
          value={(rule.words ?? []).join('\n')}
          onChange={(text) => set({words: text.split('\n')})}
        />
        <Field
          data-wide
          label="Speaks about, in any language"
          hint="one statement per line, for example: recipient & missing & !sender"
          mono
          lines={2}
          value={(rule.says ?? []).join('\n')}
          onChange={(text) => set({says: text.split('\n')})}
        />
        <Field
          label="And matches (regular expression)"
          mono
          value={rule.pattern ?? ''}
          onChange={(pattern) => set({pattern})}
        />
        <Field label="And does not match" mono value={rule.unless ?? ''} onChange={(unless) => set({unless})} />
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
          label="Examples that must match"
          hint="one per line; checked before the rule is saved"
          mono
          lines={2}
          value={(rule.fits ?? []).join('\n')}
          onChange={(text) => set({fits: text.split('\n')})}
        />
        <Field
          data-wide
          label="Examples that must not match"
          mono
          lines={2}
          value={(rule.fits_not ?? []).join('\n')}
          onChange={(text) => set({fits_not: text.split('\n')})}
        />
        <Row data-wide>
          <Button type="submit" tone={found ? undefined : 'main'} isDisabled={trial.isPending}>
            {trial.isPending ? 'Testing …' : 'Run backtest'}
          </Button>
          {found && found.problems.length === 0 && (
            <Button tone="main" isDisabled={busy} onPress={() => onKeep(entered)}>
              Save and re-classify
            </Button>
          )}
          <Button onPress={onLeave}>Cancel</Button>
        </Row>
      </Form>
      {trial.error && <Trouble error={trial.error} />}
      {found?.problems.map((each) => (
        <Notice key={each} title={each}>
          Correct the rule or its examples.
        </Notice>
      ))}
      {found && (
        <>
          <p role="status">
            <b>{count(found.changed)}</b> of {count(found.judged)} bounces and delays since {found.first_day} would be
            classified differently.{' '}
            {found.frees > 0 && (
              <>
                {plural(found.frees, 'bounce')} would no longer count against{' '}
                {found.frees === 1 ? 'its address' : 'their addresses'}.{' '}
              </>
            )}
            {found.holds > 0 && (
              <>
                {plural(found.holds, 'bounce')} would now count against{' '}
                {found.holds === 1 ? 'its address' : 'their addresses'}.
              </>
            )}
          </p>
          {found.rows.length > 0 && (
            <DataTable
              label="Changes"
              columns={[
                {
                  name: 'Count',
                  value: (row: Schemas['RejudgedPattern']) => row.count,
                  show: (row) => count(row.count),
                  number: true,
                },
                {
                  name: 'Now',
                  value: (row) => row.cause,
                  show: (row) => (
                    <>
                      {words(row.cause)} <Small>{row.permanence}</Small>
                    </>
                  ),
                },
                {
                  name: 'With these rules',
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
                {name: 'Pattern', value: (row) => row.pattern, show: (row) => <Reply>{row.pattern}</Reply>},
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
