/** The bench: trays that catch test messages, a message examined without being stored, and placement. */
import {useState, type FormEvent} from 'react';
import styled from 'styled-components';
import type {Schemas} from '../../api/client';
import {Button} from '../../design/Button';
import {Card} from '../../design/Card';
import {Field} from '../../design/Field';
import {FilePicker} from '../../design/FilePicker';
import {Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {Tabs} from '../../design/Tabs';
import {space} from '../../design/tokens';
import {useView} from '../../shell/view';
import {PlacementView} from '../placement/PlacementView';
import {AssayView} from './AssayView';
import {useAssay} from './queries';
import {RulesCard} from './RulesCard';
import {TraysCard} from './TraysCard';

const Form = styled.form`
  display: grid;
  gap: ${space.m};
`;

export function BenchPage({who}: {who: Schemas['Who']}) {
  const view = useView();
  const tenant = view.tenant || who.tenants[0]!.slug;
  return (
    <Stack>
      <h1>Bench</h1>
      <Tabs
        label="Views of the bench"
        value={view.get('view') || 'messages'}
        onChange={(value) => view.go('view', value === 'messages' ? '' : value)}
        tabs={[
          {
            id: 'messages',
            title: 'Messages',
            content: () => (
              <Stack>
                <TraysCard key={`trays ${tenant}`} tenant={tenant} />
                <Examine key={tenant} tenant={tenant} />
                <RulesCard key={`rules ${tenant}`} tenant={tenant} />
              </Stack>
            ),
          },
          {id: 'placement', title: 'Placement', content: () => <PlacementView key={tenant} tenant={tenant} />},
        ]}
      />
    </Stack>
  );
}

function Examine({tenant}: {tenant: string}) {
  const assay = useAssay(tenant);
  const [text, setText] = useState('');
  const [ip, setIp] = useState('');
  const [from, setFrom] = useState('');
  const examine = (message: Blob) => assay.mutate({message, ip: ip.trim(), mail_from: from.trim()});
  const submit = (event: FormEvent) => {
    event.preventDefault();
    // Text fields have LF only; a message on its way has CRLF.
    examine(new Blob([text.replace(/\r?\n/g, '\r\n')]));
  };
  return (
    <>
      <Card
        title="Examine a message"
        note="as it was or will be sent; nothing is stored, and nothing that it links to is fetched"
      >
        <Form onSubmit={submit}>
          <FilePicker
            label={assay.isPending ? 'Examining …' : 'Choose file'}
            hint="or drop an .eml file here"
            accept={['.eml', 'message/rfc822']}
            isDisabled={assay.isPending}
            onFile={examine}
          />
          <Field
            label="Or paste the full source, with headers"
            mono
            lines={assay.data ? 2 : 8}
            value={text}
            onChange={setText}
            placeholder={assay.data ? 'From: …' : 'From: …\nSubject: …\n\nHello'}
          />
          <Row style={{alignItems: 'end'}}>
            <Field label="Sending IP, for SPF" mono value={ip} onChange={setIp} placeholder="192.0.2.43" />
            <Field label="Envelope sender" mono value={from} onChange={setFrom} placeholder="bounce@d.example" />
            <Button type="submit" needs="viewer" tone="main" isDisabled={assay.isPending || !text.trim()}>
              {assay.isPending ? 'Examining …' : 'Examine'}
            </Button>
          </Row>
        </Form>
        {assay.error && <Trouble error={assay.error} />}
      </Card>
      {assay.data && <AssayView assay={assay.data} />}
    </>
  );
}
