/** Outside verifiers: what was spent and saved, each one's record, where verdicts were contradicted, who came in. */
import {useState} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Bar} from '../../design/Bar';
import {Button} from '../../design/Button';
import {Card, Small, Soft, Tag} from '../../design/Card';
import {CheckField} from '../../design/CheckField';
import {Choice} from '../../design/Choice';
import {Confirm} from '../../design/Confirm';
import {CopyButton} from '../../design/CopyButton';
import {DataTable} from '../../design/DataTable';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {ago, count, day, percent} from '../../design/format';
import {useMay} from '../../design/may';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {font} from '../../design/tokens';
import {
  useAddSource,
  useChangeVerifier,
  useDeleteSource,
  useDeleteVerifier,
  useDisagreements,
  useGauge,
  useNewRecipients,
  useSaveVerification,
  useSources,
  useTryVerifier,
  useVerificationSettings,
  useVerifiers,
} from './queries';
import {VerifierForm} from './VerifierForm';

type Verifier = Schemas['Verifier'];

const Mono = styled.span`
  font: 12px ${font.mono};
  overflow-wrap: anywhere;
`;
const Wrap = styled.span`
  display: block;
  min-width: 24ch;
  white-space: normal;
`;
const GAUGE_DAYS = 30;
const LEVELS = {good: 'right', doubtful: 'risk', bad: 'fault', unknown: 'note'} as const;

/** An amount with as many digits as matter: single checks cost fractions of a cent. */
export const money = (amount: number, currency: string): string =>
  `${amount.toFixed(amount !== 0 && amount < 0.1 ? 4 : 2)} ${currency}`;

/** How often one verdict was wrong, with what it is of; empty without mail. */
export function errorsOf(verifier: Verifier, verdict: 'good' | 'bad'): {wrong: number; of: number; text: string} {
  const line = verifier.record.find((each) => each.verdict === verdict);
  const of = line?.mailed ?? 0;
  const wrong = line ? (verdict === 'good' ? line.invalid : line.mailed - line.invalid) : 0;
  if (!line || !of) return {wrong, of, text: 'no mail yet'};
  const [low, high] =
    verdict === 'good' ? [line.low ?? 0, line.high ?? 1] : [1 - (line.high ?? 1), 1 - (line.low ?? 0)];
  return {wrong, of, text: `${count(wrong)} of ${count(of)} (${percent(Math.max(0, low))} to ${percent(high)})`};
}

export function VerificationView({tenant}: {tenant: string}) {
  const verifiers = useVerifiers(tenant);
  const settings = useVerificationSettings(tenant);
  const [adding, setAdding] = useState(false);
  if (verifiers.isPending || settings.isPending) return <Loading what="verifiers" />;
  const error = verifiers.error ?? settings.error;
  if (error) return <Trouble error={error} again={() => void verifiers.refetch()} />;
  const {currency} = settings.data!;
  return (
    <Stack>
      {verifiers.data!.length > 0 && <GaugeCard tenant={tenant} />}
      <Card
        title="Verifiers"
        note="asked in this order when our own checks have no verdict; statistics of the last 180 days"
        actions={
          <Button changes needs="admin" onPress={() => setAdding(!adding)}>
            {adding ? 'Cancel' : 'Add a verifier'}
          </Button>
        }
      >
        {verifiers.data!.length === 0 && !adding && (
          <Notice title="No verifiers yet">
            Own checks (syntax, domain, kind, history, SMTP) are free and always come first. A verifier is an outside
            service that says whether a mailbox exists, for money: add one with its price and a budget, and see how
            often it was right.
          </Notice>
        )}
        {adding && <VerifierForm tenant={tenant} currency={currency} onDone={() => setAdding(false)} />}
        {verifiers.data!.length > 0 && <Verifiers tenant={tenant} rows={verifiers.data!} currency={currency} />}
        <SettingsForm tenant={tenant} saved={settings.data!} />
      </Card>
      {verifiers.data!.length > 0 && <DisagreementsCard tenant={tenant} />}
      <NewRecipientsCard tenant={tenant} />
    </Stack>
  );
}

function GaugeCard({tenant}: {tenant: string}) {
  const gauge = useGauge(tenant, GAUGE_DAYS);
  if (!gauge.data) return null;
  const {own, reused, paid, unpaid, spent, saved, currency} = gauge.data;
  return (
    <Card title="Spent and saved" note={`last ${GAUGE_DAYS} days`}>
      <p>
        <b>
          {money(spent, currency)} spent on {count(paid)} checks, {money(saved, currency)} saved.
        </b>{' '}
        <Soft>
          {count(own)} addresses were decided by own checks, {count(reused)} by verdicts that were paid for before
          {unpaid > 0 ? `; ${count(unpaid)} were left open, as budgets were used up or nobody answered` : ''}. Saved is
          at the price of the first verifier.
        </Soft>
      </p>
      {gauge.data.days.length > 0 && (
        <DataTable
          label="Spent and saved by day"
          file={`verification-${tenant}.csv`}
          rows={[...gauge.data.days].reverse()}
          id={(row) => row.day}
          columns={[
            {name: 'Day', value: (row) => row.day, show: (row) => day(row.day)},
            {name: 'Own checks', value: (row) => row.own, show: (row) => count(row.own), number: true},
            {name: 'Paid before', value: (row) => row.reused, show: (row) => count(row.reused), number: true},
            {name: 'Paid', value: (row) => row.paid, show: (row) => count(row.paid), number: true},
            {name: 'Left open', value: (row) => row.unpaid, show: (row) => count(row.unpaid), number: true},
            {name: 'Spent', value: (row) => row.spent, show: (row) => money(row.spent, currency), number: true},
            {name: 'Saved', value: (row) => row.saved, show: (row) => money(row.saved, currency), number: true},
          ]}
        />
      )}
    </Card>
  );
}

function Verifiers({tenant, rows, currency}: {tenant: string; rows: Verifier[]; currency: string}) {
  const change = useChangeVerifier(tenant);
  const remove = useDeleteVerifier(tenant);
  const [edited, setEdited] = useState('');
  const error = change.error ?? remove.error;
  const chosen = rows.find((each) => each.name === edited);
  return (
    <>
      <DataTable
        label="Verifiers"
        file={`verifiers-${tenant}.csv`}
        rows={rows}
        id={(row) => row.name}
        columns={[
          {
            name: 'Verifier',
            value: (row) => row.name,
            show: (row) => (
              <Wrap>
                {row.place}. {row.name} {!row.enabled && <Tag level="note">off</Tag>}
                {row.problem && (
                  <>
                    <br />
                    <Small>
                      {row.problem} ({row.problem_at ? ago(row.problem_at) : 'lately'})
                    </Small>
                  </>
                )}
              </Wrap>
            ),
          },
          {name: 'Price', value: (row) => row.price, show: (row) => money(row.price, currency), number: true},
          {
            name: 'Today',
            value: (row) => row.spent_today,
            show: (row) => <Budget spent={row.spent_today} budget={row.budget_day} currency={currency} />,
          },
          {
            name: 'This month',
            value: (row) => row.spent_month,
            show: (row) => <Budget spent={row.spent_month} budget={row.budget_month} currency={currency} />,
          },
          {
            name: 'Said good, was invalid',
            value: (row) => errorsOf(row, 'good').wrong,
            show: (row) => errorsOf(row, 'good').text,
          },
          {
            name: 'Said bad, was delivered',
            value: (row) => errorsOf(row, 'bad').wrong,
            show: (row) => errorsOf(row, 'bad').text,
          },
          {
            name: '',
            tool: true,
            value: () => '',
            show: (row) => (
              <Row>
                <Button
                  tone="link"
                  changes
                  needs="admin"
                  aria-label={`Edit ${row.name}`}
                  onPress={() => setEdited(edited === row.name ? '' : row.name)}
                >
                  Edit
                </Button>
                {row.place > 1 && (
                  <Button
                    tone="link"
                    changes
                    needs="admin"
                    aria-label={`Ask ${row.name} earlier`}
                    onPress={() => change.mutate({name: row.name, place: row.place - 1})}
                  >
                    Ask earlier
                  </Button>
                )}
                <Button
                  tone="link"
                  changes
                  needs="admin"
                  aria-label={`Turn ${row.name} ${row.enabled ? 'off' : 'on'}`}
                  onPress={() => change.mutate({name: row.name, enabled: !row.enabled})}
                >
                  {row.enabled ? 'Turn off' : 'Turn on'}
                </Button>
                <Confirm
                  label="Delete"
                  name={`Delete ${row.name}`}
                  tone="link"
                  needs="admin"
                  title={`Delete the verifier ${row.name}?`}
                  action="Delete"
                  onConfirm={() => remove.mutate(row.name)}
                >
                  Its verdicts, which were paid for, and its record go with it.
                </Confirm>
              </Row>
            ),
          },
        ]}
      />
      <Small>
        Mail after a verdict shows what it was worth: the ends are those of the 95 % interval. Bounces for other reasons
        than a missing mailbox count for nothing.
      </Small>
      {error && <Trouble error={error} />}
      {chosen && (
        <>
          <VerifierForm
            key={chosen.name}
            tenant={tenant}
            currency={currency}
            saved={chosen}
            onDone={() => setEdited('')}
          />
          <TryForm tenant={tenant} name={chosen.name} />
        </>
      )}
    </>
  );
}

function Budget({spent, budget, currency}: {spent: number; budget?: number | null; currency: string}) {
  if (budget == null)
    return (
      <>
        {money(spent, currency)} <Small>no limit</Small>
      </>
    );
  const share = budget ? Math.min(1, spent / budget) : 1;
  return (
    <>
      <Bar share={share} of="of the budget" sign={share >= 0.99 ? 'full' : undefined} width={100} />{' '}
      {money(spent, currency)} <Small>of {money(budget, currency)}</Small>
    </>
  );
}

function TryForm({tenant, name}: {tenant: string; name: string}) {
  const [address, setAddress] = useState('');
  const trial = useTryVerifier(tenant);
  return (
    <div style={{marginTop: 12}}>
      <Row style={{alignItems: 'end'}}>
        <Field label="Address to check" hint="it may charge for this" mono value={address} onChange={setAddress} />
        <Button
          changes
          needs="admin"
          isDisabled={trial.isPending || !address.trim()}
          onPress={() => trial.mutate({name, address: address.trim()})}
        >
          Try
        </Button>
      </Row>
      {trial.error && <Trouble error={trial.error} />}
      {trial.data && (
        <p role="status">
          {trial.data.problem ? (
            <>
              <b>{trial.data.problem}</b> {trial.data.remedy}
            </>
          ) : (
            <>
              <Tag level={LEVELS[trial.data.verdict ?? 'unknown']}>{trial.data.verdict}</Tag> {trial.data.word}{' '}
              {trial.data.detail}
            </>
          )}
          <br />
          <Mono>{trial.data.answer}</Mono>
        </p>
      )}
    </div>
  );
}

function SettingsForm({tenant, saved}: {tenant: string; saved: Schemas['VerificationSettings']}) {
  const save = useSaveVerification(tenant);
  const [open, setOpen] = useState(false);
  const [currency, setCurrency] = useState(saved.currency);
  const [reuse, setReuse] = useState(String(saved.reuse_days));
  const [spent, setSpent] = useState(saved.when_spent);
  const [next, setNext] = useState(saved.ask_next_if_unknown);
  const [cross, setCross] = useState(String(Math.round(100 * saved.cross_check)));
  return (
    <div style={{marginTop: 12}}>
      <Soft>
        A verdict is used again for {saved.reuse_days} days. Budgets used up:{' '}
        {saved.when_spent === 'wait' ? 'new recipients wait for the next day' : 'own checks answer alone'}.{' '}
      </Soft>
      <Button tone="link" changes needs="admin" onPress={() => setOpen(!open)}>
        {open ? 'Cancel' : 'Edit'}
      </Button>
      {open && (
        <FormGrid
          needs="admin"
          onSubmit={(event) => {
            event.preventDefault();
            save.mutate(
              {
                currency: currency.trim() || 'EUR',
                reuse_days: Number(reuse) || 0,
                when_spent: spent,
                ask_next_if_unknown: next,
                cross_check: (Number(cross) || 0) / 100,
              },
              {onSuccess: () => setOpen(false)},
            );
          }}
        >
          <Field label="Currency" value={currency} onChange={setCurrency} />
          <Field
            label="Use a verdict again for"
            hint="days; nothing is paid twice meanwhile"
            value={reuse}
            onChange={setReuse}
          />
          <Choice
            field
            label="Budgets used up"
            value={spent}
            options={[
              {value: 'own_checks', label: 'Own checks answer alone'},
              {value: 'wait', label: 'New recipients wait for the next day'},
            ]}
            onChange={(value) => setSpent(value as typeof spent)}
          />
          <Field
            label="Second opinion, %"
            hint="of paid checks, to compare verifiers"
            value={cross}
            onChange={setCross}
          />
          <CheckField label="Ask the next verifier when one has no answer" isSelected={next} onChange={setNext} />
          <footer>
            <Button type="submit" tone="main" isDisabled={save.isPending}>
              Save
            </Button>
          </footer>
          {save.error && (
            <div data-wide>
              <Trouble error={save.error} />
            </div>
          )}
        </FormGrid>
      )}
    </div>
  );
}

function DisagreementsCard({tenant}: {tenant: string}) {
  const found = useDisagreements(tenant);
  if (!found.data) return null;
  return (
    <Card
      title="Disagreements"
      note="verdicts contradicted by other verifiers or by bounces and deliveries; last 180 days"
    >
      {found.data.length === 0 ? (
        <Soft>No verdict is contradicted.</Soft>
      ) : (
        <DataTable
          label="Disagreements"
          file={`disagreements-${tenant}.csv`}
          rows={found.data.slice(0, 30)}
          id={(row) => row.address}
          columns={[
            {name: 'Address', value: (row) => row.address, show: (row) => <Mono>{row.address}</Mono>},
            {
              name: 'What was said, and what became of mail',
              value: (row) => row.text,
              show: (row) => <Wrap>{row.text}</Wrap>,
            },
          ]}
        />
      )}
    </Card>
  );
}

function NewRecipientsCard({tenant}: {tenant: string}) {
  const found = useNewRecipients(tenant);
  const sources = useSources(tenant, useMay('operator'));
  const add = useAddSource(tenant);
  const remove = useDeleteSource(tenant);
  const [name, setName] = useState('');
  const [path, setPath] = useState('$.email');
  return (
    <Card
      title="New recipients"
      note="checked as they come in: by the API, by an address that your form's server posts to, or as a list"
    >
      {(sources.data ?? []).map((source) => (
        <Row key={source.name} style={{marginBottom: 6}}>
          <b>{source.name}</b>
          <Mono>
            POST /api/v1/new-recipients/{source.key} <Soft>addresses at {source.path}</Soft>
          </Mono>
          <CopyButton value={`${window.location.origin}/api/v1/new-recipients/${source.key}`}>Copy address</CopyButton>
          <Confirm
            label="Delete"
            name={`Delete ${source.name}`}
            tone="link"
            needs="admin"
            title={`Delete the source ${source.name}?`}
            action="Delete"
            onConfirm={() => remove.mutate(source.name)}
          >
            Nothing comes in by its address any more.
          </Confirm>
        </Row>
      ))}
      <FormGrid
        needs="admin"
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate({name: name.trim(), path: path.trim()}, {onSuccess: () => setName('')});
        }}
      >
        <Field label="Add a source" hint="its name, such as signup-form" mono value={name} onChange={setName} />
        <Field label="Addresses at" hint="JSONPath in what is posted" mono value={path} onChange={setPath} />
        <footer>
          <Button type="submit" isDisabled={add.isPending || !name.trim()}>
            Add
          </Button>
          <Small>Post from your server: whoever knows the address can spend your budget.</Small>
        </footer>
      </FormGrid>
      {(add.error ?? remove.error) && <Trouble error={add.error ?? remove.error} />}
      {found.data && found.data.length > 0 && (
        <DataTable
          label="New recipients"
          file={`new-recipients-${tenant}.csv`}
          rows={found.data}
          id={(row) => String(row.id)}
          columns={[
            {name: 'Came', value: (row) => row.came_at, show: (row) => ago(row.came_at)},
            {name: 'Address', value: (row) => row.address, show: (row) => <Mono>{row.address}</Mono>},
            {name: 'Source', value: (row) => row.source},
            {
              name: 'Verdict',
              value: (row) => row.verdict ?? 'waits',
              show: (row) =>
                row.verdict ? <Tag level={LEVELS[row.verdict]}>{row.verdict}</Tag> : <Small>waits for its check</Small>,
            },
            {
              name: 'Evidence',
              value: (row) => (row.check?.found ?? []).map((each) => each.detail).join('; '),
              show: (row) => <Wrap>{(row.check?.found ?? []).map((each) => each.detail).join('; ')}</Wrap>,
            },
          ]}
        />
      )}
    </Card>
  );
}
