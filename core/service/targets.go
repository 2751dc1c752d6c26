package service

import _ "oakenchest/core/environment/all" // the sorts of targets that every face reaches
