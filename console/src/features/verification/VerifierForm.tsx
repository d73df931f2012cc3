/** A verifier: how it is asked, how its answers are read, what it costs and may cost. */
import {useState, type FormEvent} from 'react';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {Field} from '../../design/Field';
import {FormGrid} from '../../design/Form';
import {Trouble} from '../../design/Notice';
import {useAddVerifier, useChangeVerifier} from './queries';

type Request = Schemas['VerifierRequest'];
type Answer = Schemas['VerifierAnswer'];

/** "open=good" line by line, as the table of a mapping; what has no sign is left out. */
export const tableOf = (text: string): Record<string, string> | null => {
  const pairs = text
    .split('\n')
    .map((line) => line.split('='))
    .filter((pair) => pair.length === 2 && pair[0]!.trim())
    .map(([theirs, ours]) => [theirs!.trim(), ours!.trim().toLowerCase()] as const);
  return pairs.length ? Object.fromEntries(pairs) : null;
};

/** "Name: value" line by line, as header fields. */
export const headersOf = (text: string): {name: string; value: string}[] =>
  text
    .split('\n')
    .map((line) => /^\s*([^:\s]+)\s*:\s*(.*?)\s*$/.exec(line))
    .filter((found) => found !== null)
    .map((found) => ({name: found[1]!, value: found[2]!}));

const amount = (text: string): number | null => (text.trim() === '' ? null : Number(text.replace(',', '.')) || 0);

export function VerifierForm({
  tenant,
  currency,
  saved,
  onDone,
}: {
  tenant: string;
  currency: string;
  saved?: Schemas['Verifier'];
  onDone: () => void;
}) {
  const add = useAddVerifier(tenant);
  const change = useChangeVerifier(tenant);
  const fields = saved?.answer.fields ?? {};
  const [name, setName] = useState('');
  const [method, setMethod] = useState<Request['method']>(saved?.request.method ?? 'GET');
  const [url, setUrl] = useState(saved?.request.url ?? 'https://');
  const [headers, setHeaders] = useState(
    (saved?.request.headers ?? [{name: 'Authorization', value: 'Bearer {secret}'}])
      .map((each) => `${each.name}: ${each.value}`)
      .join('\n'),
  );
  const [secret, setSecret] = useState('');
  const [body, setBody] = useState(saved?.request.body == null ? '' : JSON.stringify(saved.request.body, null, 2));
  const [atOnce, setAtOnce] = useState(String(saved?.request.at_once ?? 1));
  const [each, setEach] = useState(saved?.answer.each ?? '');
  const [verdict, setVerdict] = useState(fields.verdict?.path ?? '$.');
  const [words, setWords] = useState(
    Object.entries(fields.verdict?.table ?? {})
      .map(([theirs, ours]) => `${theirs}=${String(ours)}`)
      .join('\n'),
  );
  const [detail, setDetail] = useState(fields.detail?.path ?? '');
  const [address, setAddress] = useState(fields.address?.path ?? '');
  const [price, setPrice] = useState(String(saved?.price ?? ''));
  const [budgetDay, setBudgetDay] = useState(saved?.budget_day == null ? '' : String(saved.budget_day));
  const [budgetMonth, setBudgetMonth] = useState(saved?.budget_month == null ? '' : String(saved.budget_month));
  const [wrong, setWrong] = useState('');
  const error = add.error ?? change.error;

  const submit = (event: FormEvent) => {
    event.preventDefault();
    let parsed: unknown = null;
    try {
      parsed = method === 'POST' && body.trim() ? JSON.parse(body) : null;
      setWrong('');
    } catch (problem) {
      setWrong(`The body is not valid JSON: ${(problem as Error).message}`);
      return;
    }
    const source = (path: string, table: Record<string, string> | null = null) => ({path: path.trim(), table});
    const settings = {
      request: {
        method,
        url: url.trim(),
        headers: headersOf(headers),
        body: parsed,
        at_once: Number(atOnce) || 1,
      } as Request,
      answer: {
        unwrap: saved?.answer.unwrap ?? [],
        rows: saved?.answer.rows ?? '$',
        each: each.trim(),
        fields: {
          verdict: source(verdict, tableOf(words)),
          ...(detail.trim() ? {detail: source(detail)} : {}),
          ...(address.trim() ? {address: source(address)} : {}),
        },
      } as unknown as Answer,
      price: amount(price) ?? 0,
      budget_day: amount(budgetDay),
      budget_month: amount(budgetMonth),
      timeout: saved?.timeout ?? 10,
      enabled: saved?.enabled ?? true,
    };
    if (saved) change.mutate({name: saved.name, ...settings, ...(secret ? {secret} : {})}, {onSuccess: onDone});
    else add.mutate({name: name.trim(), secret, ...settings}, {onSuccess: onDone});
  };

  return (
    <div style={{marginTop: 16}}>
      <FormGrid onSubmit={submit} needs="admin">
        {!saved && <Field label="Name" hint="a-z, 0-9 and hyphens" mono value={name} onChange={setName} />}
        <Choice
          field
          label="Method"
          value={method ?? 'GET'}
          options={[
            {value: 'GET', label: 'GET'},
            {value: 'POST', label: 'POST'},
          ]}
          onChange={(value) => setMethod(value as Request['method'])}
        />
        <Field label="URL" hint="may hold {address} and {domain}" mono value={url} onChange={setUrl} />
        <Field
          label="Header fields"
          hint="one on a line; may hold {secret}"
          mono
          lines={2}
          value={headers}
          onChange={setHeaders}
        />
        <Field
          label="Secret"
          type="password"
          hint={saved ? 'empty: it stays' : 'stands for {secret}; stored encrypted'}
          value={secret}
          onChange={setSecret}
        />
        {method === 'POST' && (
          <>
            <Field
              label="Body"
              hint='JSON with {address}, or "{addresses}" in place of a list'
              mono
              lines={4}
              value={body}
              onChange={setBody}
            />
            <Field label="Addresses in one request" hint='with "{addresses}"' value={atOnce} onChange={setAtOnce} />
          </>
        )}
        <Field
          label="Verdict at"
          hint="JSONPath in the answer; @ in a match"
          mono
          value={verdict}
          onChange={setVerdict}
        />
        <Field
          label="Verdicts by word"
          hint="one on a line, such as deliverable=good; good, doubtful, bad or unknown"
          mono
          lines={4}
          value={words}
          onChange={setWords}
        />
        <Field label="Detail at" hint="optional" mono value={detail} onChange={setDetail} />
        <Field
          label="A match for each"
          hint="of many answers, such as $.answers[*]"
          mono
          value={each}
          onChange={setEach}
        />
        <Field label="Address at" hint="where answers are about many" mono value={address} onChange={setAddress} />
        <Field label={`Price, ${currency}`} hint="of one check that is answered" value={price} onChange={setPrice} />
        <Field label={`Budget a day, ${currency}`} hint="empty: no limit" value={budgetDay} onChange={setBudgetDay} />
        <Field
          label={`Budget a month, ${currency}`}
          hint="empty: no limit"
          value={budgetMonth}
          onChange={setBudgetMonth}
        />
        <footer>
          <Button type="submit" tone="main" isDisabled={add.isPending || change.isPending || (!saved && !name.trim())}>
            Save
          </Button>
          <Button onPress={onDone}>Cancel</Button>
          <Small>Words that are not listed count as unknown.</Small>
        </footer>
        {(wrong || error) && (
          <div data-wide>
            {wrong && <p role="alert">{wrong}</p>}
            {error && <Trouble error={error} />}
          </div>
        )}
      </FormGrid>
    </div>
  );
}
