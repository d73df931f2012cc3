/** The MTA-STS policy that Rust Gauge serves for a domain, and the steps by which it becomes the planned one. */
import styled from 'styled-components';
import {Button} from '../../design/Button';
import {Card, Small} from '../../design/Card';
import {plural} from '../../design/format';
import {Trouble} from '../../design/Notice';
import {Stack} from '../../design/Stack';
import {font} from '../../design/tokens';
import {useServeSts, useStsPolicy} from './queries';

const Policy = styled.pre`
  margin: 0;
  font: 12px/1.5 ${font.mono};
  overflow-x: auto;
`;
const Steps = styled.ol`
  margin: 0;
  padding-left: 20px;
  display: grid;
  gap: 8px;
`;
const wait = (seconds: number) =>
  seconds >= 86_400 ? plural(Math.round(seconds / 86_400), 'day') : plural(Math.round(seconds / 3600), 'hour');

export function StsCard({tenant, name}: {tenant: string; name: string}) {
  const sts = useStsPolicy(tenant, name);
  const serve = useServeSts(tenant, name);
  if (sts.error)
    return (
      <Card title="MTA-STS policy">
        <Trouble error={sts.error} again={() => void sts.refetch()} />
      </Card>
    );
  if (!sts.data?.planned && !sts.data?.served) return null;
  const found = sts.data;
  const next = found.steps.find((each) => each.policy);
  return (
    <Card
      title="MTA-STS policy"
      note={
        found.served
          ? `served for ${found.host}, id ${found.id}`
          : `not served here yet; point ${found.host} at this installation to have it served`
      }
    >
      <Stack>
        <Policy>{found.served || found.planned}</Policy>
        {found.steps.length > 0 && (
          <>
            <b>To the planned policy</b>
            <Steps>
              {found.steps.map((each) => (
                <li key={each.title}>
                  {each.title}
                  {each.seconds > 0 && `; then wait ${wait(each.seconds)}`}
                  <br />
                  <Small>{each.why}</Small>
                </li>
              ))}
            </Steps>
          </>
        )}
        {(!found.served || next) && (
          <div>
            <Button changes tone="main" onPress={() => serve.mutate()} isDisabled={serve.isPending}>
              {found.served ? 'Serve the next policy' : 'Serve this policy'}
            </Button>{' '}
            <Small>under a new id; publish the record at _mta-sts afterwards</Small>
          </div>
        )}
        {serve.error && <Trouble error={serve.error} />}
      </Stack>
    </Card>
  );
}
