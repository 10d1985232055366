import { Box, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { Component, type ReactNode } from 'react';
import { useLocation } from 'react-router';
import { PageHead, QuietButton, Sheet } from './sheet';

type Props = { at: string; children: ReactNode };

/** Holds what breaks in one page there, so that the others stay; another page begins anew. */
class Boundary extends Component<Props, { error?: Error; at?: string }> {
  override state: { error?: Error; at?: string } = {};

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  static getDerivedStateFromProps(props: Props, had: { error?: Error; at?: string }) {
    return props.at === had.at ? null : { error: undefined, at: props.at };
  }

  override render() {
    if (!this.state.error) return this.props.children;
    return (
      <Box role="alert">
        <PageHead title={t`This page broke`} text={t`The service goes on, and so do the other pages.`} />
        <Sheet p="5">
          <Text mb="4">{this.state.error.message}</Text>
          <QuietButton onClick={() => window.location.reload()}>
            <Trans>Load it anew</Trans>
          </QuietButton>
        </Sheet>
      </Box>
    );
  }
}

export function Broken({ children }: { children: ReactNode }) {
  return <Boundary at={useLocation().pathname}>{children}</Boundary>;
}
