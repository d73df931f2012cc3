/** How to send to a tray, ready to copy. */
import {useState} from 'react';
import styled from 'styled-components';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {Choice} from '../../design/Choice';
import {CopyButton} from '../../design/CopyButton';
import {Loading, Notice, Trouble} from '../../design/Notice';
import {Row, Stack} from '../../design/Stack';
import {font} from '../../design/tokens';
import {useConnection, useRotateTray} from './queries';
import {Mono, Password} from './TraysCard';

const Code = styled.pre`
  margin: 0;
  padding: 12px;
  overflow-x: auto;
  font: 12px/1.5 ${font.mono};
`;

export function ConnectionView({path}: {path: {tenant: string; name: string}}) {
  const there = useConnection(path);
  const rotate = useRotateTray(path);
  const [library, setLibrary] = useState('smtplib');
  if (there.isPending) return <Loading what="settings" />;
  if (there.error) return <Trouble error={there.error} again={() => void there.refetch()} />;
  if (!there.data.host) {
    return (
      <Notice title="The bench is not listening">
        Set bench_port in the settings of the service. Messages can be added from files, by the API and by feeds.
      </Notice>
    );
  }
  const {host, starttls_port, tls_port, smtp_user, certificate, snippets} = there.data;
  const shown = snippets.find((each) => each.key === library) ?? snippets[0]!;
  return (
    <Stack>
      <Card
        title="SMTP"
        note="the password comes from BENCH_PASSWORD: it was shown when it was made"
        actions={
          <Button changes needs="admin" isDisabled={rotate.isPending} onPress={() => rotate.mutate(undefined)}>
            Rotate password
          </Button>
        }
      >
        {rotate.error && <Trouble error={rotate.error} />}
        {rotate.data && <Password made={rotate.data} tenant={path.tenant} onDone={() => rotate.reset()} />}
        <p>
          <Mono>
            {host}:{starttls_port}
          </Mono>{' '}
          with STARTTLS
          {tls_port > 0 && (
            <>
              , <Mono>{`${host}:${tls_port}`}</Mono> with TLS
            </>
          )}
          , user <Mono>{smtp_user}</Mono>, login PLAIN or LOGIN
        </p>
        <Row>
          <Choice
            label="Settings for"
            value={shown.key}
            options={snippets.map((each) => ({value: each.key, label: each.title}))}
            onChange={setLibrary}
          />
          <CopyButton value={shown.text}>Copy</CopyButton>
        </Row>
        <Code>{shown.text}</Code>
      </Card>
      {certificate && (
        <Card title="Certificate" note="the bench's own; save it as bench-certificate.pem where your program runs">
          <CopyButton value={certificate}>Copy</CopyButton>
          <Code>{certificate}</Code>
          <Small>Set tls_cert_file in the settings of the service to use one that is signed by an authority.</Small>
        </Card>
      )}
    </Stack>
  );
}
