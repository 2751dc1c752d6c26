package pipeline

import _ "oakenchest/core/environment/all" // the targets that tests reach
