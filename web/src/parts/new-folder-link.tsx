import { Trans } from '@lingui/react/macro';
import { Link } from 'react-router';
import { AddIcon } from './icons';
import { MainButton } from './sheet';

/** To the page on which a folder is made. */
export const NewFolderLink = () => (
  <Link to="/folders/new">
    <MainButton as="span">
      <AddIcon /> <Trans>New folder</Trans>
    </MainButton>
  </Link>
);
